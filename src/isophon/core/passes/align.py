"""Which moment of the lead a moment of a stack part belongs to.

Dynamic time warping (Sakoe & Chiba 1978, slopes from 1/2 to 2) of what both sing, within ±0.45 s of where they should
be, on third-octave levels against the voice around them: what makes a sound that sound whoever sings it, in any octave.
Each moment that matters is then placed by the lag at which both are most alike around it. How alike two takes are is
judged against the same takes moved against each other, so that another text or the wrong lead is known as such.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from isophon.core.audio.loudness import lufs
from isophon.core.audio.shapes import between_samples
from isophon.core.survey import VOICED, Survey

REACH_S = 0.45  # s: a word is looked for so far away
STEP_S = 0.02  # of the path
_FINE_S = 0.005  # s: step in which moments are placed
_LOWEST_HZ = 400.0  # Hz of the bands that are compared
_HIGHEST_HZ = 8_000.0  # Hz of these
_FLOOR_DB = -36.0  # dB against the voice level: softer counts as silence
_LEVEL_WEIGHT = 1.5  # how much the level counts beside the bands
_VOICED_WEIGHT = 8.0  # the same for being voiced
_RISE_WEIGHT = 1.2  # the same for rising and falling
_RISE_S = 0.03  # s before and after that a rise is between
_STAY = 2.0  # cost of a step that is not straight on, in dB of distance
_STRANGE_S = (1.7, 2.9, 4.3, -2.3)  # where the takes cannot belong together
_NEAR_S = 0.1  # s around where a moment is expected, in which it is placed
_UNKNOWN = 30.0  # where the lead has not begun or is over
_JUDGED_S = 60.0  # s: likeness is judged in stretches of this length


@dataclass(frozen=True, eq=False)
class Sounds:
    """What is compared: ``(frames, features)``, every ``step_s``; ``sung``: whether there is voice, ``(frames,)``."""

    values: np.ndarray
    sung: np.ndarray
    step_s: float

    def at(self, seconds: np.ndarray) -> np.ndarray:
        """The features at times, held at the ends.

        Parameters
        ----------
        seconds : ``(n,)``, s.

        Returns
        -------
        ``(n, features)``.
        """
        place = np.clip(seconds / self.step_s, 0, len(self.values) - 1.001)
        first = place.astype(int)
        share = (place - first)[:, None]
        return (1 - share) * self.values[first] + share * self.values[np.minimum(first + 1, len(self.values) - 1)]


def sounds_of(survey: Survey, step_s: float) -> Sounds:
    """Levels of the bands over the voice around, less what this voice and microphone always have, and how they rise."""
    inside = survey.band_slice(_LOWEST_HZ, _HIGHEST_HZ)
    every = max(1, round(step_s / survey.hop_s))
    power = survey.bands[:, inside].astype(np.float64)
    power = ndimage.uniform_filter1d(power, every, axis=0)[::every] if every > 1 else power
    voice = survey.voice_level[::every][: len(power)]
    level = np.maximum(_FLOOR_DB, 10 * np.log10(power + 1e-14) - voice[:, None])
    loud = np.maximum(_FLOOR_DB, lufs(ndimage.uniform_filter1d(survey.k_power, every)[::every]) - voice)
    voiced = (survey.state == VOICED).astype(float)
    voiced = ndimage.uniform_filter1d(voiced, max(3, every))[::every]
    sung = voiced > 0.5
    if sung.any():  # the tilt of this voice and microphone; the floor stays the floor
        level = np.maximum(_FLOOR_DB, level - np.median(level[sung], axis=0) + np.median(level[sung]))
    step = every * survey.hop_s
    reach = max(1, round(_RISE_S / step))
    rise = np.zeros_like(loud)
    rise[reach:] = loud[reach:] - loud[:-reach]
    columns = [level / np.sqrt(level.shape[1]), _LEVEL_WEIGHT * loud[:, None] / 2, _VOICED_WEIGHT * voiced[:, None] / 2,
               _RISE_WEIGHT * rise[:, None] / 2]  # fmt: skip
    return Sounds(np.concatenate(columns, axis=1), sung, step)


def path(part: Sounds, lead: Sounds, later_s: float) -> tuple[np.ndarray, float]:
    """How much later each frame of a part comes than its like in the lead.

    Parameters
    ----------
    part, lead : their sounds.
    later_s : how much later the part starts than the lead, s.

    Returns
    -------
    ``(frames,)``, s; and the mean distance of the frames with voice.
    """
    reach = round(REACH_S / part.step_s)
    cost = _costs(part, lead, round(later_s / part.step_s), reach)
    total, came = np.empty_like(cost), np.zeros(cost.shape, np.int8)
    total[0] = cost[0]
    slower, quicker = np.full(cost.shape[1], np.inf), np.full(cost.shape[1], np.inf)
    for i in range(1, len(cost)):
        before = total[i - 1]
        quicker[:-1] = before[1:] + _STAY  # the lead went two steps while the part went one
        best = np.minimum(before, quicker)
        if i > 1:  # the part went two steps while the lead went one
            slower[1:] = total[i - 2][:-1] + cost[i - 1][1:] + _STAY
            came[i] = np.where(slower < best, 2, before > quicker)
            best = np.minimum(best, slower)
        total[i] = best + cost[i]
    late = _walked_back(total, came, reach) * part.step_s
    there = np.flatnonzero(part.sung)
    like = lead.at(there * part.step_s + later_s - late[there])
    return late, float(np.linalg.norm(like - part.values[there], axis=1).mean()) if len(there) else 0.0


def _costs(part: Sounds, lead: Sounds, later: int, reach: int) -> np.ndarray:
    """The distance of each frame of the part to the frames of the lead that it may belong to, ``(frames, lags)``."""
    costs = np.full((len(part.values), 2 * reach + 1), _UNKNOWN)
    for k in range(-reach, reach + 1):  # the part is k steps later than the lead
        first, last = max(0, k - later), min(len(part.values), len(lead.values) + k - later)
        if last > first:
            gap = lead.values[first + later - k : last + later - k] - part.values[first:last]
            costs[first:last, k + reach] = np.sqrt(np.einsum("ij,ij->i", gap, gap))
    return costs


def _walked_back(total: np.ndarray, came: np.ndarray, reach: int) -> np.ndarray:
    late = np.zeros(len(total))
    i, k = len(total) - 1, int(np.argmin(total[-1]))
    while i >= 0:
        late[i] = k - reach
        step = came[i, k]
        if step == 2 and i > 0:
            late[i - 1] = k - reach - 0.5
            i, k = i - 2, k - 1
        else:
            i, k = i - 1, k + (step == 1)
        k = min(total.shape[1] - 1, max(0, k))
    return late


def alike(part: Sounds, lead: Sounds, later_s: float) -> float:
    """How far the takes are more alike than they are moved against each other: 0 for not at all, up to 1.

    Judged by the minute of the part that has the most voice.
    """
    length = round(_JUDGED_S / part.step_s)
    if len(part.sung) > length:
        sung = np.concatenate([[0], np.cumsum(part.sung)])
        first = int(np.argmax(sung[length:] - sung[:-length]))
        later_s += first * part.step_s
        part = Sounds(part.values[first : first + length], part.sung[first : first + length], part.step_s)
    strange = float(np.median([path(part, lead, later_s + move)[1] for move in _STRANGE_S]))
    return max(0.0, 1 - path(part, lead, later_s)[1] / strange) if strange > 0 else 0.0


def lateness(part: Sounds, lead: Sounds, later_s: float, moment: float, expected: float, before: float, after: float
             ) -> tuple[float, float]:  # fmt: skip
    """How much later a ``moment`` of the part is than its like in the lead, s, and how alike they are there, 0 to 1.

    ``expected``: about how much later; ``before`` and ``after``: the seconds around the moment that are compared.
    """
    times = moment + np.arange(-round(before / _FINE_S), round(after / _FINE_S) + 1) * _FINE_S
    mine = part.at(times)
    lags = expected + np.arange(-round(_NEAR_S / _FINE_S), round(_NEAR_S / _FINE_S) + 1) * _FINE_S
    distances = np.array([np.linalg.norm(lead.at(times + later_s - lag) - mine, axis=1).mean() for lag in lags])
    at = int(np.argmin(distances))
    late = float(lags[at])
    if 0 < at < len(lags) - 1:  # between the steps, by a parabola
        late += between_samples(*distances[at - 1 : at + 2]) * _FINE_S
    spread = float(np.linalg.norm(mine - mine.mean(axis=0), axis=1).mean())
    return late, float(np.clip(1 - distances[at] / max(1e-6, 1.4 * spread + 4), 0, 1))
