"""Learning how a cue reached the microphone, and predicting its leak.

The path is a filter of some tens of milliseconds for each cue channel, estimated
by regularised weighted least squares (Wiener's equations with weights): both signals are first whitened
by the noise of the take's stillest moments, and each moment counts by how little
else sounds in it (iteratively reweighted, so that the voice freezes the learning).
Only the moments in which the leak is heard best are used, or those that a person chose.
A leak that moves is followed (see :mod:`.moving`); one whose path changes beside that is learned in pieces
that lean on the whole take's path, and only where that explains other moments of the same piece better.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
import soxr
from scipy import ndimage, signal

from isophon.core import memory
from isophon.core.audio.threads import at_once
from isophon.core.passes.bleed.easing import Easing
from isophon.core.passes.bleed.equations import BLOCK, ROUGHLY, Moments, solved
from isophon.core.passes.bleed.filtering import filtered
from isophon.core.passes.bleed.judging import judged, only_clear
from isophon.core.passes.bleed.moving import Motion, motion_of

_PATH_S, BEFORE_S = 0.075, 0.006  # a path's length, and how much of it lies before the found delay
_WEIGHTS_S = (0.5, 0.25, 0.1, 0.04, 0.02, 0.02, 0.02, 0.02, 0.02, 0.02)  # finer each time
_LEAST_ROUNDS, _ROUND_PAYS_DB = 4, 0.5  # more rounds only while each explains so much more
_EASED_ROUNDS = 2  # later weights are like these
_FINE_WEIGHTS_S = (0.04, 0.02)
_FLOOR_PERCENTILE = 5
_WEIGHT_STEP = 8  # frames that count alike
_PIECE = 1 << 18  # frames
_THIN = 8  # steps, of which one tells how loud the others are
_OWN_SHARE, _MOST_S = 0.3, 60.0
_LOUD, _CLEAREST, _MOST_OWN = 90, 20, 0.1  # percentiles of where the path's own error is told, and how far it can be
_DECAY_BEFORE_S, _DECAY_AFTER_S = 0.0015, 0.02
_PIECE_S, _FOLLOW_RIDGE = 12.0, 0.02
_PAYS_DB, _FOLLOW_FROM_DB = 0.4, 0.3
_START_LEAN, _CHECK_S = 1e-3, 0.4
_TRUST_S, _TRUST_PRIOR, _DOUBT = 3.0, 0.3, 0.25


@dataclass(frozen=True, eq=False)
class Learned:
    """``leak``: the predicted leak, ``(n,)`` float32, as far as it is trusted; ``path``: ``(cues, taps)`` of the whole
    take; ``followed``: the share of pieces with their own; ``explained_db``: what it explains of moments
    it was not learned from, 0: no leak.
    """

    leak: np.ndarray
    path: np.ndarray
    followed: float
    explained_db: float


def learn(
    take: np.ndarray,
    cues: np.ndarray,
    rate: int,
    tell: Callable[[float], None] | None = None,
    moments: Sequence[tuple[float, float]] = (),
) -> Learned:
    """Learn the leak of cues ``(cues, n)`` in a take ``(n,)`` at the same, even rate.

    The cues lie ``BEFORE_S`` sooner than where they are heard, within some ms: the path begins so much before.
    ``moments``: the spans in s to learn from, all where none is given.
    """
    tell = tell or (lambda fraction: None)
    taps = round(_PATH_S * rate)
    weight, motion, path = _roughly(take, cues, rate, moments, tell)
    memory.trim()
    flat = whitener(take, rate)
    white_take, white_cues = _white(take, cues, flat)
    moving = motion.of(white_cues, rate) if motion else white_cues
    choose, most = partial(_choose, moments=moments, rate=rate), max(1, round(_MOST_S * rate / BLOCK))
    unlikely = _unlikely(taps, rate)
    weight = np.minimum(weight, _weight(white_take, rate, _WEIGHTS_S[0]))  # what sounds above the rough rate counts too
    easing = Easing(white_cues, choose(weight), unlikely, rate)
    for around_s in _FINE_WEIGHTS_S:
        heard = Moments(white_take, moving, choose(weight), taps, most)
        path = solved(heard, easing, _START_LEAN, guess=path)
        del heard  # it is large, as all that is as long as the take
        leak = _through(moving, path)
        weight = _weight(white_take - leak, rate, around_s, leak)
    del leak
    memory.trim()
    tell(0.4)
    heard = Moments(white_take, moving, choose(weight), taps, most)
    found = judged(heard, choose(weight), easing, rate, path, lambda: tell(0.6))
    if found.explained_db <= 0:
        return Learned(np.zeros(len(take), np.float32), np.zeros_like(path, np.float32), 0.0, 0.0)
    path = solved(heard, easing, found.lean, guess=found.path)
    del heard
    memory.trim()
    if motion:  # more exactly, now that the path is
        motion = motion_of(white_take, _through(white_cues, path), choose(weight), rate, motion)
        moving = motion.of(white_cues, rate) if motion else white_cues
    leak = _through(moving, path)
    weight = _weight(white_take - leak, rate, _WEIGHTS_S[-1], leak)
    del leak
    path = solved(Moments(white_take, moving, choose(weight), taps, most), easing, found.lean, guess=path)
    tell(0.7)
    followed = 0.0
    if motion and found.explained_db > _FOLLOW_FROM_DB:
        del white_cues
        cues = motion.of(only_clear(cues, found.bands_db, rate), rate)
        leak, followed = _followed(white_take, moving, cues, choose(weight), path, easing, rate,
                                   lambda fraction: tell(0.7 + 0.3 * fraction))  # fmt: skip
    else:
        del white_cues, moving, easing  # all of it large, as the cues are
        cues = only_clear(cues, found.bands_db, rate)
        leak = _through(motion.of(cues, rate) if motion else cues, path)
    del cues
    memory.trim()
    trust = _trust(white_take, filtered(leak, flat, len(flat) // 2), weight, rate)
    shown = only_clear(path, found.bands_db, rate)
    return Learned(_faded(leak, *trust), shown, followed, found.explained_db)


def _roughly(take, cues, rate: int, moments, tell) -> tuple[np.ndarray, Motion | None, np.ndarray]:
    """How much each moment counts, ``(n,)``, how the leak moves, and the path as far as half the rate tells it.

    Weights, path and motion wait for one another: they come from coarse to fine, each with the others' last, until
    that explains no more.
    """
    low, count = rate // 2, len(take)
    take, *cues = at_once(lambda sound: soxr.resample(sound, rate, low, "HQ"), [take, *cues])
    taps, most = round(_PATH_S * low), max(1, round(_MOST_S * low / BLOCK))
    white_take, white_cues = _white(take, np.stack(cues), whitener(take, low))
    choose, unlikely = partial(_choose, moments=moments, rate=low), _unlikely(taps, low)
    weight = _weight(white_take, low, _WEIGHTS_S[0])  # at first coarse: a leak must not count against itself
    path: Any = None
    moving, motion, explained = white_cues, None, 0.0
    for i, around_s in enumerate(_WEIGHTS_S[1:]):
        tell(0.03 * i)
        if i < _EASED_ROUNDS:
            easing = Easing(white_cues, choose(weight), unlikely, low)
        path = solved(Moments(white_take, moving, choose(weight), taps, most), easing, _START_LEAN, guess=path)
        leak = _through(white_cues, path)
        if i:  # the first path is hardly one
            motion = motion_of(white_take, leak, choose(weight), low, motion)
            moving = motion.of(white_cues, low) if motion else white_cues
            leak = _through(moving, path) if motion else leak
        before, explained = explained, _explained_db(white_take, leak, choose(weight))
        if i >= _LEAST_ROUNDS and explained < before + _ROUND_PAYS_DB:
            break
        weight = _weight(white_take - leak, low, around_s, leak)
    weight = np.repeat(weight, 2)
    weight = np.pad(weight, (0, max(0, count - len(weight))), mode="edge")[:count]
    return weight, motion, _at_twice(path, round(_PATH_S * rate))


def _at_twice(path: np.ndarray, taps: int) -> np.ndarray:
    """A path at twice the rate, ``(cues, taps)``."""
    twice = signal.resample_poly(path, 2, 1, axis=1) / 2
    return np.pad(twice, ((0, 0), (0, max(0, taps - twice.shape[1]))))[:, :taps]


def _explained_db(take: np.ndarray, leak: np.ndarray, weight: np.ndarray) -> float:
    before, after = (float(np.sum(weight * np.square(x))) for x in (take, take - leak))
    return 10 * float(np.log10((before + 1e-30) / (after + 1e-30)))


def _white(take: np.ndarray, cues: np.ndarray, flat: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    white_take, *white_cues = at_once(lambda sound: filtered(sound, flat, len(flat) // 2), [take, *cues])
    return white_take, np.stack(white_cues)


def _unlikely(taps: int, rate: int) -> np.ndarray:
    """How unlikely each tap is, 1 and more: what is far from where the cue is found is less likely the path."""
    away = np.arange(taps) / rate - BEFORE_S
    return np.exp(np.abs(away) / np.where(away < 0, _DECAY_BEFORE_S, _DECAY_AFTER_S))


def _choose(weight: np.ndarray, moments: Sequence[tuple[float, float]], rate: int) -> np.ndarray:
    """Weights ``(n,)``, 0 outside the moments to learn from."""
    if not moments:
        return weight
    chosen = np.zeros_like(weight)
    for start, end in moments:
        span = slice(max(0, round(start * rate)), max(0, round(end * rate)))
        chosen[span] = weight[span]
    return chosen


def response(path: np.ndarray, rate: int, span_hz: tuple[float, float], points: int = 120) -> tuple[np.ndarray, ...]:
    """How a path ``(taps,)`` passes sound on: frequencies in Hz, evenly over octaves, and gains in dB, smoothed."""
    power = np.square(np.abs(np.fft.rfft(path, 8 * len(path))))
    edges = np.geomspace(span_hz[0], min(span_hz[1], 0.5 * rate), points + 1)
    at = np.searchsorted(np.fft.rfftfreq(8 * len(path), 1 / rate), edges)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    last = np.maximum(at[1:], at[:-1] + 1)
    return np.sqrt(edges[1:] * edges[:-1]), 10 * np.log10((sums[last] - sums[at[:-1]]) / (last - at[:-1]) + 1e-20)


def moved(samples: np.ndarray, by: int, count: int) -> np.ndarray:
    """``samples`` moved later by ``by`` frames, ``count`` long."""
    out = np.zeros(count, np.float32)
    first, last = max(0, by), min(count, len(samples) + by)
    if last > first:
        out[first:last] = samples[first - by : last - by]
    return out


def _through(cues: np.ndarray, path: np.ndarray) -> np.ndarray:
    """The cues through their paths, summed, float32 ``(n,)``."""
    out = filtered(cues[0], path[0])
    for cue, way in zip(cues[1:], path[1:], strict=True):
        out += filtered(cue, way)
    return out


def whitener(take: np.ndarray, rate: int) -> np.ndarray:
    """A short linear-phase filter that flattens the noise of the take's stillest moments."""
    size = 512
    frames = np.lib.stride_tricks.sliding_window_view(take, size)[:: 2 * size]
    power = np.square(np.abs(np.fft.rfft(frames * np.hanning(size), axis=1)))
    loud = power.sum(axis=1)
    some = loud > 1e-9 * loud.max()
    still = power[some & (loud <= np.percentile(loud[some], 15))] if some.any() else power
    density = ndimage.uniform_filter1d(still.mean(axis=0), 9) if len(still) else np.ones(size // 2 + 1)
    hz = np.fft.rfftfreq(size, 1 / rate)
    response = 1 / np.sqrt(density + 1e-3 * density.max() * 1e-2 + 1e-20)
    response *= np.clip((hz - 60) / 90, 0, 1) * np.clip((0.46 * rate - hz) / (0.04 * rate), 0, 1)
    taps = np.roll(np.fft.irfft(response / response.max()), size // 2)[: size - 1] * np.hanning(size - 1)
    return taps.astype(np.float32)


def _weight(error: np.ndarray, rate: int, around_s: float, leak: np.ndarray | None = None) -> np.ndarray:
    """How much each moment counts: one over the power of what else sounds around it.

    What a path that is not right yet leaves of the ``leak`` itself is nothing else; but it is an error of the moments
    in which the leak is loud, without which a few of them would count for all.
    """
    size = max(1, round(around_s * rate / _WEIGHT_STEP))
    sounds = [error] if leak is None else [error, leak]
    power, *leaked = at_once(lambda sound: ndimage.uniform_filter1d(_power(sound), size), sounds)
    own = 0.0
    if leaked:
        own = _own_share(power, leaked[0]) * leaked[0]
        power -= _OWN_SHARE * leaked[0]
    power = ndimage.maximum_filter1d(np.maximum(power, 0), size) + own
    floor = np.percentile(power[::_THIN], _FLOOR_PERCENTILE) + 1e-14
    return np.repeat((floor / (power + floor)).astype(np.float32), _WEIGHT_STEP)[: len(error)]


def _own_share(power: np.ndarray, leaked: np.ndarray) -> float:
    """How much of the leak the path leaves of it, as the moments tell in which the leak is heard best."""
    power, leaked = power[::_THIN], leaked[::_THIN]
    loud = leaked >= np.percentile(leaked, _LOUD)
    share = float(np.percentile(power[loud] / (leaked[loud] + 1e-20), _CLEAREST))
    return share if share < _MOST_OWN else 0.0  # a path that is not right yet cannot tell


def _power(samples: np.ndarray) -> np.ndarray:
    """The power of each ``_WEIGHT_STEP`` frames."""
    more = -len(samples) % _WEIGHT_STEP
    rows = (np.pad(samples, (0, more), mode="edge") if more else samples).reshape(-1, _WEIGHT_STEP)
    return np.einsum("ts,ts->t", rows, rows).astype(np.float64) / _WEIGHT_STEP


def _followed(white_take, white_cues, cues, weight, path, easing, rate, tell) -> tuple[np.ndarray, float]:
    """The leak with paths of their own for pieces where that pays, and the share of those pieces."""
    leak = _through(cues, path)
    size = round(_PIECE_S * rate)
    step, count = size // 2, len(white_take)
    if count < 2 * size:
        return leak, 0.0
    taps, most = path.shape[1], max(1, round(_PIECE_S * rate / BLOCK))
    out, total, own = np.zeros(count, np.float32), np.zeros(count, np.float32), 0
    firsts = list(range(0, max(1, count - step), step))
    window = (signal.get_window("hann", size, fftbins=False) + 1e-6).astype(np.float32)
    half = round(_CHECK_S * rate)

    def piece(first: int) -> np.ndarray | None:
        """The leak in a piece by a path of its own, None where the whole take's is as good."""
        span = slice(first, min(count, first + size))
        margin = slice(max(0, first - path.shape[1]), span.stop)
        skip = span.start - margin.start
        heard = weight[margin].copy()
        heard[:skip] = 0
        odd = (np.arange(len(heard)) // half) % 2 == 1
        pieces = white_take[margin], white_cues[:, margin]
        learned = solved(Moments(*pieces, heard * ~odd, taps, most), easing, _FOLLOW_RIDGE, path, ROUGHLY)
        errors = [np.sum((heard * odd) * np.square(pieces[0] - _through(pieces[1], p))) for p in (path, learned)]
        tell(first / count)
        if errors[1] <= 0 or 10 * np.log10(errors[0] / errors[1]) <= _PAYS_DB:
            return None
        own_path = solved(Moments(*pieces, heard, taps, most), easing, _FOLLOW_RIDGE, path)
        return _through(cues[:, margin], own_path)[skip:]

    easing.at(_FOLLOW_RIDGE)  # once, before the pieces share it
    for first, mine in zip(firsts, at_once(piece, firsts), strict=True):
        span = slice(first, min(count, first + size))
        shape = window[: span.stop - span.start]
        own += mine is not None
        out[span] += shape * (leak[span] if mine is None else mine)
        total[span] += shape
    return out / np.maximum(total, 1e-6), own / len(firsts)


def _trust(take: np.ndarray, leak: np.ndarray, weight: np.ndarray, rate: int) -> tuple[np.ndarray, int]:
    """How much of the prediction is really in the take, from 0 to 1, from moment to moment, and of how many frames."""
    step = max(1, rate // 100)
    length = max(3, round(_TRUST_S * rate) // step)
    take, leak, weight = (x[::step].astype(np.float64) for x in (take, leak, weight))
    both, own = (ndimage.uniform_filter1d(weight * x, length, mode="constant") for x in (take * leak, leak * leak))
    share = (both + _TRUST_PRIOR * own.mean()) / (own + _TRUST_PRIOR * own.mean() + 1e-30)
    return np.clip((share - _DOUBT) / _DOUBT, 0, 1), step


def _faded(sound: np.ndarray, gain: np.ndarray, step: int) -> np.ndarray:
    """A sound ``(n,)`` under gains that are told every ``step`` frames, straight lines in between; float32."""
    out = np.empty(len(sound), np.float32)
    at = np.arange(len(gain)) * step

    def fill(first: int) -> None:
        piece = sound[first : first + _PIECE]
        out[first : first + _PIECE] = piece * np.interp(np.arange(first, first + len(piece)), at, gain)

    at_once(fill, range(0, len(sound), _PIECE))
    return out
