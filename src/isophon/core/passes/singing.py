"""Where the singer sounds: every stretch of singing from its soft start to the end of its tail.

One broadband level would clip soft F, H and nasal tails, so several bands are
judged, each against its own floor: from the voiced frames a stretch grows
outwards for as long as any band stands over its floor.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import numpy as np
from scipy import ndimage

from isophon.core.audio.loudness import db, lufs
from isophon.core.survey import STILL, VOICED, Survey

# No published method is followed: the numbers are this program's own. bench/left_out.md says how well they do.
_BAND_EDGES_HZ = (100.0, 300.0, 800.0, 2_000.0, 4_500.0, 9_000.0, 20_000.0)
OVER_FLOOR_DB = 5.0  # what is so far over the floor of its band sounds, where nobody chose otherwise
_UNDER_VOICE_DB = 62.0  # what lies deeper is not heard, however silent the room
_BEFORE_S, _AFTER_S = 0.22, 0.45  # the furthest that a stretch grows before and after its voice
_HOLE_S = 0.025  # shorter holes are bridged
# a stop at the end of a word: the longest closure, and the longest burst after it; of one that is breathed out
_STOP_S, _BURST_S, _BREATHED_OUT_S = 0.11, 0.06, 0.22
# a breath that touches a word: beside a dip it swells by so much where the dip is near the room, else by the second
_SWELL_DB, _CLEAR_SWELL_DB = 4.0, 10.0
_IN_THE_ROOM_DB = 8.0  # a dip that is less over the room is near it
_LASTING_S = 0.09  # and lasts so long
# the release of a stop: its level jumps by so much within 15 ms
_JUMP_DB = 9.0
_CLOSURE_S = 0.1  # it is looked for so long after the dip
_SWELLS_ON_DB, _SWELLS_ON_S = 10.0, (0.02, 0.15)  # a breath rises by so much more between these times after the jump
_STILL_DB = 4.0  # what is less over the room is silence
_SHORT_BURST_S = (0.02, 0.12)  # how long a burst between two silences is (a mouth click takes 10 ms)
_BURST_AFTER_S = 0.12  # how far after a sound it may end
# voice that is no singing
_LEAST_VOICE_S = 0.03  # shorter runs of voiced frames are none
_FAR_UNDER_VOICE_DB, _ALONE_S = 15.0, 0.3  # somebody talking: so far under the voice, and nothing else within this
_BRIEF_S, _NEAR_S = 0.1, 0.08  # a tone that leaked: as brief and as soft as that, and no voice so near
_TONE_S, _TONE_UNDER_VOICE_DB = 0.25, 8.0  # a tone of a breath: no longer, and so far under the voice,
_VOWELS_HZ, _VOWEL_OVER_DB = 4_000.0, 2.0  # and, up to this frequency, no further over what sounds beside it
# how a sound swells
_SMOOTH_S, _AROUND_S = 0.02, 0.35  # over which its level is averaged, and how far outside of it its swell is followed
_FROM_DB, _TO_DB = 15.0, 4.0  # a swell goes from so far under its height to so far


def band_levels(survey: Survey) -> tuple[np.ndarray, np.ndarray]:
    """Levels of six bands, smoothed over 25 ms, and the floor of each.

    Parameters
    ----------
    survey : what is measured of the take.

    Returns
    -------
    ``(frames, bands)`` and ``(bands,)``, dBFS.
    """
    groups = [survey.band_slice(low, high) for low, high in pairwise(_BAND_EDGES_HZ)]
    groups = [group for group in groups if group.stop > group.start]
    power = np.stack([survey.bands[:, group].sum(axis=1) for group in groups], axis=1)
    level = db(ndimage.uniform_filter1d(power, max(1, round(0.025 / survey.hop_s)), axis=0))
    still = survey.state == STILL
    if np.count_nonzero(still) < 20:
        still = db(survey.k_power) <= np.percentile(db(survey.k_power), 5)
    return level, np.percentile(level[still], 60, axis=0)


def singing(
    survey: Survey, esses: Iterable[tuple[float, float]] = (), over_floor_db: float = OVER_FLOOR_DB
) -> list[tuple[float, float]]:
    """The stretches of singing, (start, end) in s; ``esses`` are known to be sung.

    A stretch ends where no band stands ``over_floor_db`` over its floor; it bridges holes of
    25 ms, and of 110 ms before the burst of a stop (T, K). Voice that is 15 dB
    under the take's and stands alone is somebody talking, not singing.
    """
    if survey.voice_lufs is None:
        return []
    level, floor, sung, loud = _known(survey)
    active = (level > np.maximum(floor + over_floor_db, survey.voice_lufs - _UNDER_VOICE_DB)).any(axis=1)
    hop, sung = survey.hop_s, sung.copy()
    hole = np.ones(max(1, round(_HOLE_S / hop)))
    active = ndimage.binary_closing(np.pad(active, 20), hole)[20:-20]
    for start, end in esses:
        sung[survey.frame(start) : survey.frame(end) + 1] = True
    spans = []
    for (where,) in ndimage.find_objects(ndimage.label(sung)[0]):
        first = _grown(active, loud, where.start, -1, round(_BEFORE_S / hop))
        first = _up_to_a_breath(loud, where.start, first, -1)
        last = _grown(active, loud, where.stop - 1, 1, round(_AFTER_S / hop))
        last = _up_to_a_breath(loud, where.stop - 1, last, 1)
        spans.append((first, last + 1))
    return [(round(a * hop, 3), round(b * hop, 3)) for a, b in _joined(spans)]


@lru_cache(maxsize=4)
def _known(survey: Survey) -> tuple[np.ndarray, np.ndarray, np.ndarray, _Loudness]:
    """What stays the same wherever singing is said to end: levels and floors of bands, what is voice, loudness."""
    return *band_levels(survey), sung_voice(survey), _Loudness.of(survey)


def sung_voice(survey: Survey) -> np.ndarray:
    """The voiced frames that are singing: runs of 30 ms or more, none that is soft and alone; bool ``(frames,)``."""
    hop = survey.hop_s
    voiced = survey.state == VOICED
    voiced = ndimage.binary_opening(voiced, np.ones(max(1, round(_LEAST_VOICE_S / hop))))
    level, voice = lufs(survey.k_power), survey.voice_lufs or 0.0
    vowels = db(ndimage.uniform_filter1d(survey.bands[:, survey.band_slice(0.0, _VOWELS_HZ)].sum(axis=1), 5))
    for (where,) in ndimage.find_objects(ndimage.label(voiced)[0]):
        before = slice(max(0, where.start - round(_NEAR_S / hop)), where.start)
        after = slice(where.stop, where.stop + round(_NEAR_S / hop))
        if voiced[before].any() or voiced[after].any():
            continue
        length, under = (where.stop - where.start) * hop, voice - float(level[where].max())
        beside = max(float(vowels[side].max(initial=-np.inf)) for side in (before, after))
        over = float(vowels[where].max()) - beside
        in_a_breath = length < _TONE_S and under > _TONE_UNDER_VOICE_DB and over < _VOWEL_OVER_DB
        if in_a_breath or (length < _BRIEF_S and under > _FAR_UNDER_VOICE_DB):
            voiced[where] = False  # a tone that leaked, or a breath's own
    near = round(_ALONE_S / hop)
    groups, _ = ndimage.label(ndimage.binary_dilation(voiced, np.ones(2 * near + 1)))
    for i, (where,) in enumerate(ndimage.find_objects(groups), 1):
        inside = voiced[where] & (groups[where] == i)
        if inside.any() and np.percentile(level[where][inside], 90) < voice - _FAR_UNDER_VOICE_DB:
            voiced[where] &= ~inside
    return voiced


def _grown(active: np.ndarray, loud: _Loudness, at: int, step: int, reach: int) -> int:
    """The last frame that still belongs to the sound at ``at``, going by ``step``."""
    limit = min(len(active) - 1, max(0, at + step * reach))
    here = at
    while here != limit and active[here + step]:
        here += step
    if step > 0:
        here = _over_a_stop(active, loud, here, limit)
    return here


@dataclass(frozen=True, eq=False)
class _Loudness:
    """Levels a frame: ``smooth`` over 25 ms and ``sharp``, LUFS; the room's.

    Of the time after each frame in which a breath lasts: the ``lowest`` and the ``mean`` smooth level.
    """

    smooth: np.ndarray
    sharp: np.ndarray
    lowest: np.ndarray
    mean: np.ndarray
    room: float
    hop: float

    @classmethod
    def of(cls, survey: Survey) -> _Loudness:
        power = ndimage.uniform_filter1d(survey.k_power.astype(np.float64), max(1, round(0.025 / survey.hop_s)))
        sharp, still = lufs(survey.k_power), survey.state == STILL
        room = float(np.median(sharp[still])) if still.any() else -150.0
        smooth, lasting = lufs(power), min(len(power), round(_LASTING_S / survey.hop_s))
        windows = np.lib.stride_tricks.sliding_window_view(smooth, lasting)
        return cls(smooth, sharp, windows.min(axis=1), windows.mean(axis=1), room, survey.hop_s)

    def bursts(self, first: int, last: int, end: int | None = None) -> bool:
        """Whether a stop is released in these frames: its level jumps within 15 ms and is at its top, where a breath
        swells on. From frame ``end`` on something else sounds.
        """
        first, step = max(0, first), max(1, round(0.015 / self.hop))
        near = self.sharp[first:last]
        if len(near) <= step:
            return False
        jumps = near[step:] - near[:-step]
        top = first + step + int(np.argmax(jumps))
        soon, later = (top + round(s / self.hop) for s in _SWELLS_ON_S)
        later = later if end is None else min(later, end)
        swells_on = self.sharp[soon:later].max(initial=-150.0) - self.sharp[top:soon].max() > _SWELLS_ON_DB
        return float(jumps.max()) > _JUMP_DB and not swells_on

    def stop_after(self, dip: int) -> bool:
        """Whether a stop is released after the dip of its closure."""
        return self.bursts(dip - round(0.01 / self.hop), dip + round(_CLOSURE_S / self.hop))

    def ends_in_a_stop(self, first: int, last: int) -> bool:
        """Whether a sound ends in a stop, as in "left": a short burst out of silence, and noise floor after it."""
        over = self.sharp[first : last + round(_BURST_AFTER_S / self.hop)] - self.room
        sounds = np.flatnonzero(np.diff(np.concatenate([[True], over > _STILL_DB, [True]]).astype(int)))
        for start, end in zip(sounds[1::2], sounds[2::2], strict=False):
            seconds, height = (end - start) * self.hop, float(over[start:end].max())
            if _SHORT_BURST_S[0] <= seconds <= _SHORT_BURST_S[1] and height > _JUMP_DB + _STILL_DB:
                return True
        return False


def _up_to_a_breath(loud: _Loudness, at: int, until: int, step: int) -> int:
    """Where a word really begins or ends, if a breath touches it: at the dip beside a sound that swells and lasts.

    A stop and what follows it belong to the word. What is sung and hisses is known to be an ess.
    """
    level, lasting = loud.smooth, round(_LASTING_S / loud.hop)
    ahead = at + step * np.arange(abs(until - at) + lasting)
    ahead = ahead[(ahead >= 0) & (ahead < len(level))]
    count = min(abs(until - at) + 1, len(ahead) - lasting + 1)
    if count < 2:
        return until
    along = level[ahead]
    lower = np.concatenate([[True], along[1:count] < np.minimum.accumulate(along[: count - 1])])
    lowest = np.maximum.accumulate(np.where(lower, np.arange(count), 0))
    windows = ahead[:count] if step > 0 else ahead[:count] - lasting + 1
    dip = along[lowest]
    most = np.where(dip < loud.room + _IN_THE_ROOM_DB, _SWELL_DB, _CLEAR_SWELL_DB)
    swells = (loud.lowest[windows] - dip > _SWELL_DB / 2) & (loud.mean[windows] - dip > most)
    dips = ahead[np.unique(lowest[swells])].tolist()
    if step < 0:
        begins = until - round(0.02 / loud.hop)
        return next((dip for dip in dips if not loud.bursts(begins, dip, dip)), until)
    return next((dip for dip in dips if not (loud.stop_after(dip) or loud.ends_in_a_stop(dip, until))), until)


def _over_a_stop(active: np.ndarray, loud: _Loudness, here: int, limit: int) -> int:
    """Past the closure and the burst of a stop at a word's end, if there is one; one that jumps may be breathed out."""
    ahead = active[here + 1 : limit + 1]
    burst = np.flatnonzero(ahead[: round(_STOP_S / loud.hop)])
    if not len(burst):
        return here
    first = int(burst[0])
    rest = np.flatnonzero(~ahead[first:])
    length = int(rest[0]) if len(rest) else len(ahead) - first
    longest = _BREATHED_OUT_S if loud.stop_after(here + 1 + first) else _BURST_S
    return here + first + length if length <= longest / loud.hop else here


def _joined(spans: list[tuple[int, int]]) -> list[tuple[int, int]]:
    joined: list[list[int]] = []
    for first, last in sorted(spans):
        if joined and first <= joined[-1][1]:
            joined[-1][1] = max(joined[-1][1], last)
        else:
            joined.append([first, last])
    return [(first, last) for first, last in joined]


def smoothed_level(survey: Survey) -> np.ndarray:
    """The level of every frame, over 20 ms, K-weighted, ``(frames,)``, dB."""
    return db(ndimage.uniform_filter1d(survey.k_power.astype(np.float64), max(1, round(_SMOOTH_S / survey.hop_s))))


def swell_s(level: np.ndarray, first: int, last: int, hop_s: float) -> float:
    """How long a sound takes to come from 15 to 4 dB under its height, and to go again.

    Parameters
    ----------
    level : ``(frames,)``, dB.
    first, last : its frames.
    hop_s : s between frames.

    Returns
    -------
    The sum, s.
    """
    top, around = float(np.percentile(level[first:last], 90)), round(_AROUND_S / hop_s)
    start, end = max(0, first - around), min(len(level), last + around)
    near = level[start:end]
    middle = first - start + int(np.argmax(level[first:last]))
    return (_edge(near[middle::-1], top) + _edge(near[middle:], top)) * hop_s


def _edge(outwards: np.ndarray, top: float) -> int:
    """Frames from the last that is within 4 dB of the top to the first that is 15 dB under it."""
    gone = np.flatnonzero(outwards < top - _FROM_DB)
    outer = int(gone[0]) if len(gone) else len(outwards)
    inner = np.flatnonzero(outwards[:outer] > top - _TO_DB)
    return outer - (int(inner[-1]) if len(inner) else 0)
