"""A regular click that leaked into a take, found in the take itself: its beat, and which sounds it has.

What rises out of quieter moments before it, and does not go on for long, may be a beat. A comb over the
autocorrelation of these moments tells after which times they come again. A click is believed
when its beats sound alike, sample for sample, as no consonant does: each is held against
the mean of the others. A straight line through the times at which each is most like
that mean gives the period to a small part of a sample.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy import fft, signal

from isophon.core.passes.bleed.hits import (
    BEATS_S,
    BIN_S,
    LEFT_MS,
    STEP_S,
    bright_part,
    first_beat,
    hits_of,
    levels_beside,
    levels_of,
    likely_beats,
)

Picture = tuple[np.ndarray, np.ndarray]

_RINGS_DB = (0.0, 16.0)  # how much what follows may be over what was before: ticks, and beeps that ring
_MOST_TRIED = 40  # beats that are looked into, of each kind of sound
_BETWEEN = (2, 3)  # parts of a beat that may have sounds of their own
_FINER_PAYS = 1.1  # times as much must be alike for a finer beat
_SHORTEST_S = 0.1  # s: no beat is shorter
_BARS = (2, 3, 4, 5, 6, 7, 8)  # beats in a bar that are tried
_FEWEST_BEATS = 8  # in a take
_FEWEST_ALIKE = 5.0  # sum of the shares that the others explain
_FEWEST_OF_A_SOUND = 3  # beats that share it
_FEWEST_MOSTLY = 2  # of these that the others explain for the most part
_MOSTLY = 0.5  # share of a beat that is most of it
_EARLY_S = 0.002  # s before a beat that are compared
_SOUND_S = 0.025  # s after it
_OFF_S = 0.0015  # s that a beat may lie off its line
_STRAIGHT_S = 0.0007  # s: beats that lie closer to it make the line
_FINER = 8  # parts of a sample in which a beat is placed
_ROUNDS = 3  # times that the beats and their mean are estimated in turn
_STILL_PERCENTILE = 20  # of powers that stands for the quiet beats
_QUIET_PERCENTILE = 5  # the same where single beats are quiet
_SILENT = 1e-9  # of the loudest: what is softer is digital silence
_BAR_PAYS = 1.04  # times as much must be explained for a longer bar
_SAME_SOUND = 0.99  # of what is explained that one sound for two must keep
_MOST_SOUNDS = 3  # of a click
_SURELY = 4.0  # standard errors over nothing
_SHARES = (0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8)  # of a beat at which what lies between beats is compared
_LOOPED = 0.5  # of what the beats have in common, over which it is a loop


@dataclass(frozen=True, eq=False)
class Click:
    """``times``: one array of beats in s for each sound, none where no click is regular; ``beat_s``: the shortest time
    between beats. ``beats`` (s) and ``heights`` picture how the moments come again.
    """

    times: tuple[np.ndarray, ...]
    beat_s: float
    beats: np.ndarray
    heights: np.ndarray

    @property
    def found(self) -> bool:
        """Whether there is a regular click in the take."""
        return bool(self.times)


@dataclass(frozen=True, eq=False)
class _Grid:
    """Beats on a straight line: the first, the time between them and the bar they repeat in."""

    first_s: float
    beat_s: float
    bar: int
    alike: float


def find_click(take: np.ndarray, rate: int, tell: Callable[[float], None] | None = None) -> Click:
    """Finds the regular click in a take.

    Parameters
    ----------
    take : ``(n,)``.
    rate : Hz.
    tell : is called with the share that is done.

    Returns
    -------
    One that is not ``found`` where there is none.
    """
    tell = tell or (lambda _fraction: None)
    bright = bright_part(take, rate)
    level = levels_of(bright, rate)
    grids, scores = [], []
    for i, rings_db in enumerate(_RINGS_DB):
        hits = hits_of(level, rings_db)
        beats, score = likely_beats(hits)
        scores.append(score)
        likely = sorted((first_beat(hits, beat) for beat in beats), reverse=True)[:_MOST_TRIED]
        for j, (_, first, beat) in enumerate(likely):
            grids += _believed(bright, level, first, beat, rate)
            tell((i + j / len(likely)) / len(_RINGS_DB))
    shown = np.max(scores, axis=0)
    shown = np.maximum(shown, 0) / (shown.max(initial=0) + 1e-12)
    picture = np.arange(len(shown)) * STEP_S + BEATS_S[0], shown
    best = max(grids, key=lambda g: (g.alike, g.beat_s), default=None)
    if best is None or best.alike < _FEWEST_ALIKE or _is_loop(bright, level, best, rate):
        return Click((), 0.0, *picture)
    return _sounds(bright, level, _filled(bright, level, best, rate), rate, picture)


def _believed(bright: np.ndarray, level: np.ndarray, first: float, beat: float, rate: int) -> list[_Grid]:
    """The grid of beats near ``beat`` that sound most alike, none where too few would fit the take."""
    times = _times(first, beat, len(level) * BIN_S)
    if len(times) < _FEWEST_BEATS:
        return []
    number, weight = np.arange(len(times)), _quietness(level, times)
    for _ in range(_ROUNDS):
        waves = waves_at(bright, times, rate)
        weight, _ = _robust(waves, weight)
        if not weight.sum() > 0:
            return []
        mean = _mean(waves, weight)
        at, like = _most_like(bright, times, mean, rate)
        sure = weight * np.square(np.maximum(like, 0))
        if sure.sum() <= 0:
            return []
        step, start = _line(number, at, sure)
        step, start = _line(number, at, sure * (np.abs(at - start - step * number) < _STRAIGHT_S) + 1e-12 * sure)
        times, beat = start + step * number, step
    waves = waves_at(bright, times, rate)
    bar, most = 1, _explained(waves, 0 * number)
    for longer in _BARS:
        explained = _explained(waves, number % longer)
        bar, most = (longer, explained) if explained > _BAR_PAYS * max(most, 0) else (bar, most)
    return [_Grid(float(times[0]), float(beat), bar, float(_alike(waves, weight, number % bar).sum()))]


def _is_loop(bright: np.ndarray, level: np.ndarray, grid: _Grid, rate: int) -> bool:
    """Whether not only the beats but what lies between them comes again: pasted words, no click."""
    between = []
    for share in _SHARES:
        times = _times(grid.first_s + share * grid.beat_s, grid.beat_s, len(level) * BIN_S)
        alike = _alike(waves_at(bright, times, rate), _quietness(level, times), np.arange(len(times)) % grid.bar)
        between.append(float(alike.sum()))
    return float(np.median(between)) > _LOOPED * grid.alike


def _filled(bright: np.ndarray, level: np.ndarray, grid: _Grid, rate: int) -> _Grid:
    """The grid with the beats between its beats, as long as that finds more that sound alike."""
    while True:
        beats = [grid.beat_s / d for d in _BETWEEN if grid.beat_s / d >= _SHORTEST_S]
        finer = [g for beat in beats for g in _believed(bright, level, grid.first_s, beat, rate)]
        best = max(finer, key=lambda g: g.alike, default=grid)
        if best.alike <= _FINER_PAYS * grid.alike:
            return grid
        grid = best


def _sounds(bright: np.ndarray, level: np.ndarray, grid: _Grid, rate: int, picture: Picture) -> Click:
    """The click of a grid: positions of the bar that sound alike share a sound, empty ones have none."""
    seconds = len(level) * BIN_S
    times = _times(grid.first_s, grid.beat_s, seconds)
    waves, weight = waves_at(bright, times, rate), _quietness(level, times)
    place = np.arange(len(times)) % grid.bar
    places = [(place == i) for i in range(grid.bar)]
    groups = [mine for mine in places if _heard(waves[mine])] or places
    seldom = [mine for mine in places if not any(mine is group for group in groups)]
    while len(groups) > 1:
        pairs = [(i, j) for j in range(len(groups)) for i in range(j)]
        merged = [_merged(groups, i, j) for i, j in pairs]
        explained = [_explained_by(waves, masks) for masks in merged]
        best = int(np.argmax(explained))
        if explained[best] < _SAME_SOUND * _explained_by(waves, groups) and len(groups) <= _MOST_SOUNDS:
            break
        groups = merged[best]
    means = [_mean(waves[g], _robust(waves[g], weight[g])[0]) for g in groups]
    for mine in seldom:  # beats that seldom sound belong to the sound that explains them
        power = np.square(waves[mine]).sum(axis=1)
        alike = [(np.square(waves[mine] - mean).sum(axis=1) < (1 - _MOSTLY) * power).sum() for mean in means]
        best = int(np.argmax(alike))
        if alike[best]:
            groups[best] = groups[best] | mine
    beats = np.sort(np.concatenate([times[g] for g in groups]))
    return Click(tuple(times[g] for g in groups), float(np.diff(beats).min()), *picture)


def _merged(masks: list[np.ndarray], i: int, j: int) -> list[np.ndarray]:
    return [mask for k, mask in enumerate(masks) if k not in (i, j)] + [masks[i] | masks[j]]


def _explained_by(waves: np.ndarray, masks: list[np.ndarray]) -> float:
    inside = np.any(masks, axis=0)
    return _explained(waves[inside], np.argmax(masks, axis=0)[inside])


def _explained(waves: np.ndarray, groups: np.ndarray) -> float:
    """How much of the beats the means of the other beats of their groups explain, the loud ones counting less."""
    weight, power = _by_power(waves)
    gain = sum(float(_gains(waves[mine], weight[mine]).sum()) for mine in (groups == g for g in np.unique(groups)))
    return gain / float((weight * power).sum() + 1e-20)


def _by_power(waves: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Weights that count beats less the louder they are, silent ones not at all; and their power."""
    power = np.square(waves).sum(axis=1)
    audible = power > _SILENT * power.max()
    quiet = np.percentile(power[audible], _QUIET_PERCENTILE) if audible.any() else 1.0
    return np.where(audible, 1 / (power + quiet + 1e-20), 0), power


def _gains(waves: np.ndarray, weight: np.ndarray) -> np.ndarray:
    """How much of each beat's weighted power the mean of the others explains; less than nothing where it is noise."""
    if np.count_nonzero(weight) < 2:
        return np.zeros(len(waves))
    w = weight[:, None]
    others = ((w * waves).sum(axis=0) - w * waves) / (w.sum() - w)
    return weight * (2 * waves * others - np.square(others)).sum(axis=1)


def _heard(waves: np.ndarray) -> bool:
    """Whether beats share a sound: what the mean of the others explains is far from chance (Student's t), or it
    explains most of some of them.
    """
    weight, power = _by_power(waves)
    gains = _gains(waves, weight)
    surely = float(gains.mean()) > _SURELY * float(gains.std()) / len(gains) ** 0.5
    mostly = np.count_nonzero(gains > _MOSTLY * weight * power)
    return bool(len(gains) >= _FEWEST_OF_A_SOUND and (surely or mostly >= _FEWEST_MOSTLY))


def _times(first: float, beat: float, seconds: float) -> np.ndarray:
    """All beats that lie whole within a take."""
    edge = _EARLY_S + _OFF_S + 0.001
    lowest, highest = np.ceil((edge - first) / beat), np.floor((seconds - _SOUND_S - edge - first) / beat)
    return first + beat * np.arange(lowest, highest + 1)


def _quietness(level: np.ndarray, times: np.ndarray) -> np.ndarray:
    """How much each beat counts: one over the power of what sounds before it."""
    before = 10 ** (levels_beside(level, LEFT_MS)[np.minimum(np.round(times / BIN_S).astype(int), len(level) - 1)] / 10)
    return 1 / (before + np.percentile(before, _STILL_PERCENTILE))


def _mean(waves: np.ndarray, weight: np.ndarray) -> np.ndarray:
    return (weight[:, None] * waves).sum(axis=0) / (weight.sum() + 1e-30)


def _line(number: np.ndarray, at: np.ndarray, weight: np.ndarray) -> tuple[float, float]:
    """Slope and start of the straight line through times, weighted."""
    w = weight / weight.sum()
    n, t = (w * number).sum(), (w * at).sum()
    slope = float((w * (number - n) * (at - t)).sum() / ((w * np.square(number - n)).sum() + 1e-12))
    return slope, float(t - slope * n)


def waves_at(
    bright: np.ndarray, times: np.ndarray, rate: int, early_s: float = _EARLY_S, sound_s: float = _SOUND_S
) -> np.ndarray:
    """What sounds at each beat, moved by parts of a sample so that all begin alike, ``(beats, n)``."""
    count = round((early_s + sound_s) * rate)
    exact = (times - early_s) * rate
    frame = np.floor(exact).astype(int)
    rows = np.lib.stride_tricks.sliding_window_view(bright, count)[np.clip(frame, 0, len(bright) - count)]
    turn = np.exp(2j * np.pi * np.fft.rfftfreq(count) * (exact - frame)[:, None])
    return np.fft.irfft(np.fft.rfft(rows, axis=1) * turn, count, axis=1)


def _most_like(bright: np.ndarray, times: np.ndarray, mean: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """When each beat is most like the mean, s, and how much, −1 to 1."""
    reach, count = round(_OFF_S * rate), len(mean)
    first = np.clip(np.round((times - _EARLY_S) * rate).astype(int) - reach, 0, len(bright) - count - 2 * reach)
    rows = np.lib.stride_tricks.sliding_window_view(bright, count + 2 * reach)[first]
    size = fft.next_fast_len(2 * count + 2 * reach, real=True)
    product = fft.rfft(rows, size, axis=1) * fft.rfft(mean, size).conj()
    like = fft.irfft(product, size, axis=1)[:, : 2 * reach + 1]
    fine = signal.resample_poly(like, _FINER, 1, axis=1)[:, : 2 * reach * _FINER + 1]
    norm = np.sqrt(np.square(mean).sum() * np.square(rows).sum(axis=1)) + 1e-20
    return (first + fine.argmax(axis=1) / _FINER) / rate + _EARLY_S, fine.max(axis=1) / norm


def _alike(waves: np.ndarray, weight: np.ndarray, groups: np.ndarray) -> np.ndarray:
    """How much of each beat the mean of the others of its group explains, 0 where that is not most of it."""
    out = np.zeros(len(waves))
    for group in np.unique(groups):
        mine = groups == group
        if mine.sum() >= _FEWEST_OF_A_SOUND:
            _, left = _robust(waves[mine], weight[mine])
            power = np.square(waves[mine]).sum(axis=1)
            share = np.where(left < power, 1 - left / np.where(power > 0, power, 1.0), 0.0)
            out[mine] = np.where(share > _MOSTLY, share, 0)
    return out


def _robust(waves: np.ndarray, weight: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Weights that leave aside beats under the voice, and what the mean of the others leaves of each beat's power."""
    power = np.square(waves).sum(axis=1)
    audible = power > _SILENT * power.max()  # a take may be silent between its words
    weight, left = np.where(audible, weight, 0), power
    weight = weight if weight.sum() > 0 else audible.astype(float)
    for _ in range(_ROUNDS if audible.sum() > 1 else 0):
        w = weight[:, None] / weight.sum()
        others = ((w * waves).sum(axis=0) - w * waves) / np.maximum(1 - w, 1e-9)
        left = np.square(waves - others).sum(axis=1)
        weight = np.where(audible, 1 / (left + np.percentile(left[audible], _STILL_PERCENTILE) + 1e-20), 0)
    return weight, np.where(audible, left, power)
