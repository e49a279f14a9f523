"""Learning how a cue reached the microphone, and predicting its leak.

The path is a filter of some tens of milliseconds for each cue channel, estimated
by regularised weighted least squares (Wiener's equations with weights): both signals are first whitened
by the noise of the take's stillest moments, and each moment counts by how little
else sounds in it (iteratively reweighted, so that the voice freezes the learning).
Only the moments in which the leak is clearest are used, or those that a person chose.
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
from isophon.core.passes.bleed.equations import BLOCK, ROUGHLY, Moments, solved
from isophon.core.passes.bleed.feeds import Feeds, through, whitened, whitener
from isophon.core.passes.bleed.judging import judged, only_clear
from isophon.core.passes.bleed.moving import Motion, motion_of
from isophon.core.passes.bleed.preconditioner import Preconditioner
from isophon.core.passes.bleed.weighing import STEP, powers, weights, within

_PATH_S, BEFORE_S = 0.075, 0.006  # a path's length, and how much of it lies before the found delay
_WEIGHTS_S = (0.5, 0.25, 0.1, 0.04, 0.02, 0.02, 0.02, 0.02, 0.02, 0.02)  # finer each time
_LEAST_ROUNDS, _ROUND_PAYS_DB = 4, 0.5  # more rounds only while each explains so much more
_EASED_ROUNDS = 2  # later weights are like these
_FINE_WEIGHTS_S = (0.04, 0.02)  # s over which what else sounds is averaged once the path is known at the full rate
_PIECE = 1 << 18  # frames
_MOST_S = 60.0  # s of the take, the clearest, that a path is learned from
_DECAY_BEFORE_S = 0.0015  # s: time constant by which taps before the found delay are unlikely
_DECAY_AFTER_S = 0.02  # s: the same after it, as a room's early reflections fall off
_PIECE_S = 12.0  # s: length of the pieces that may have a path of their own
_FOLLOW_RIDGE = 0.02  # of the cues' power: how firmly these stay near the path of the complete take
_PAYS_DB = 0.4  # dB that a path of its own must explain more
_FOLLOW_FROM_DB = 0.3  # dB that the path of the complete take must explain before pieces are tried
_START_RIDGE = 1e-3  # of the cues' power, before it is estimated
_CHECK_S = 0.4  # s: a piece is learned from every other one of such spans, and checked on the rest
_TRUST_S = 3.0  # s over which it is asked how much of the prediction is in the take
_TRUST_PRIOR = 0.3  # of the prediction's usual power, that counts as found where the leak is weak
_DOUBT = 0.25  # share of the prediction under which none of it is used; all of it from twice that on


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
    """Learns the leak of cues in a take at the same, even rate.

    Parameters
    ----------
    take : ``(n,)``.
    cues : ``(cues, n)``; they lie ``BEFORE_S`` sooner than they sound in the take, within some ms: the path begins so
        much before.
    rate : Hz, even.
    tell : is called with the share that is done.
    moments : spans in s to learn from; all where none is given.
    """
    tell = tell or (lambda _fraction: None)
    taps = round(_PATH_S * rate)
    weight, motion, path = _roughly(take, cues, rate, moments, tell)
    memory.trim()
    flat = whitener(take, rate)
    feeds, white = Feeds.under(flat, cues)
    choose, most = partial(within, moments=moments, rate=rate), max(1, round(_MOST_S * rate / BLOCK))
    high = weights(powers(whitened(take, flat)), rate, _WEIGHTS_S[0])  # what sounds above the rough rate counts too
    weight = np.minimum(weight, high)
    preconditioner = Preconditioner(white, choose(weight), _unlikely(taps, rate), rate)
    del white  # it is large, as all that is as long as the take
    moving = feeds.moved(motion, rate)
    for around_s in _FINE_WEIGHTS_S:
        memory.trim()
        equations = Moments(take, moving, choose(weight), taps, most)
        path = solved(equations, preconditioner, _START_RIDGE, guess=path)
        del equations
        memory.trim()
        weight = _weights(whitened(take, flat), moving.through(path), rate, around_s)
    memory.trim()
    tell(0.4)
    equations = Moments(take, moving, choose(weight), taps, most)
    found = judged(equations, choose(weight), preconditioner, rate, path, lambda: tell(0.6))
    if found.explained_db <= 0:
        return Learned(np.zeros(len(take), np.float32), np.zeros_like(path, np.float32), 0.0, 0.0)
    path = solved(equations, preconditioner, found.ridge_share, guess=found.path)
    del equations
    memory.trim()
    if motion:  # more exactly, now that the path is
        motion = motion_of(whitened(take, flat), feeds.through(path), choose(weight), rate, motion)
        moving = feeds.moved(motion, rate)
    weight = _weights(whitened(take, flat), moving.through(path), rate, _WEIGHTS_S[-1])
    memory.trim()
    path = solved(Moments(take, moving, choose(weight), taps, most), preconditioner, found.ridge_share, guess=path)
    tell(0.7)
    follow, followed = motion and found.explained_db > _FOLLOW_FROM_DB, 0.0
    if not follow:
        del moving, preconditioner
    del feeds
    memory.trim()
    cues = only_clear(cues, found.bands_db, rate)
    cues = motion.of(cues, rate) if motion else cues
    if follow:
        leak, followed = _followed(take, moving, cues, choose(weight), path, preconditioner, rate,
                                   lambda fraction: tell(0.7 + 0.3 * fraction))  # fmt: skip
    else:
        leak = through(cues, path)
    del cues
    memory.trim()
    trust = _trust(whitened(take, flat), whitened(leak, flat), weight, rate)
    shown = only_clear(path, found.bands_db, rate)
    return Learned(_faded(leak, *trust), shown, followed, found.explained_db)


def _roughly(
    take: np.ndarray, cues: Any, rate: int, moments: Any, tell: Any
) -> tuple[np.ndarray, Motion | None, np.ndarray]:
    """How much each moment counts, ``(steps,)``, how the leak moves, and the path as far as half the rate tells it.

    Weights, path and motion wait for one another: they come from coarse to fine, each with the others' last, until
    that explains no more.
    """
    low, count = rate // 2, -(-len(take) // STEP)
    take, *cues = at_once(lambda sound: soxr.resample(sound, rate, low, "HQ"), [take, *cues])
    taps, most = round(_PATH_S * low), max(1, round(_MOST_S * low / BLOCK))
    flat = whitener(take, low)
    white, (feeds, white_cues) = whitened(take, flat), Feeds.under(flat, np.stack(cues))
    choose, unlikely = partial(within, moments=moments, rate=low), _unlikely(taps, low)
    weight = weights(powers(white), low, _WEIGHTS_S[0])  # at first coarse: a leak must not count against itself
    path: Any = None
    moving, motion, explained = feeds, None, 0.0
    for i, around_s in enumerate(_WEIGHTS_S[1:]):
        tell(0.03 * i)
        if i < _EASED_ROUNDS:
            preconditioner = Preconditioner(white_cues, choose(weight), unlikely, low)
        path = solved(Moments(take, moving, choose(weight), taps, most), preconditioner, _START_RIDGE, guess=path)
        leak = feeds.through(path)
        if i:  # the first path is hardly one
            motion = motion_of(white, leak, choose(weight), low, motion)
            moving = feeds.moved(motion, low)
            leak = moving.through(path) if motion else leak
        before, explained = explained, _explained_db(white, leak, choose(weight))
        if i >= _LEAST_ROUNDS and explained < before + _ROUND_PAYS_DB:
            break
        weight = _weights(white, leak, low, around_s)
    weight = np.repeat(weight, 2)
    weight = np.pad(weight, (0, max(0, count - len(weight))), mode="edge")[:count]
    return weight, motion, _at_twice(path, round(_PATH_S * rate))


def _weights(take: np.ndarray, leak: np.ndarray, rate: int, around_s: float) -> np.ndarray:
    return weights(powers(take, leak), rate, around_s, powers(leak))


def _at_twice(path: np.ndarray, taps: int) -> np.ndarray:
    """A path at twice the rate, ``(cues, taps)``."""
    twice = signal.resample_poly(path, 2, 1, axis=1) / 2
    return np.pad(twice, ((0, 0), (0, max(0, taps - twice.shape[1]))))[:, :taps]


def _explained_db(take: np.ndarray, leak: np.ndarray, weight: np.ndarray) -> float:
    before, after = (float(np.sum(weight * power)) for power in (powers(take), powers(take, leak)))
    return 10 * float(np.log10((before + 1e-30) / (after + 1e-30)))


def _unlikely(taps: int, rate: int) -> np.ndarray:
    """How unlikely each tap is, 1 and more: what is far from where the cue is found is less likely the path."""
    away = np.arange(taps) / rate - BEFORE_S
    return np.exp(np.abs(away) / np.where(away < 0, _DECAY_BEFORE_S, _DECAY_AFTER_S))


def response(path: np.ndarray, rate: int, span_hz: tuple[float, float], points: int = 120) -> tuple[np.ndarray, ...]:
    """How a path passes sound on, smoothed.

    Parameters
    ----------
    path : ``(taps,)``.
    rate : Hz.
    span_hz : the lowest and the highest frequency.
    points : how many, evenly over octaves.

    Returns
    -------
    Frequencies in Hz and gains in dB, ``(points,)`` each.
    """
    power = np.square(np.abs(np.fft.rfft(path, 8 * len(path))))
    edges = np.geomspace(span_hz[0], min(span_hz[1], 0.5 * rate), points + 1)
    at = np.searchsorted(np.fft.rfftfreq(8 * len(path), 1 / rate), edges)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    last = np.maximum(at[1:], at[:-1] + 1)
    return np.sqrt(edges[1:] * edges[:-1]), 10 * np.log10((sums[last] - sums[at[:-1]]) / (last - at[:-1]) + 1e-20)


def moved(samples: np.ndarray, by: int, count: int) -> np.ndarray:
    """Samples moved later.

    Parameters
    ----------
    samples : ``(n,)``.
    by : frames.
    count : frames of the result.

    Returns
    -------
    float32 ``(count,)``.
    """
    out = np.zeros(count, np.float32)
    first, last = max(0, by), min(count, len(samples) + by)
    if last > first:
        out[first:last] = samples[first - by : last - by]
    return out


def _followed(
    take: np.ndarray,
    feeds: Feeds,
    cues: Any,
    weight: np.ndarray,
    path: np.ndarray,
    preconditioner: Any,
    rate: int,
    tell: Any,
) -> tuple[np.ndarray, float]:
    """The leak with paths of their own for pieces where that pays, and the share of those pieces."""
    leak = through(cues, path)
    size = 2 * STEP * round(_PIECE_S * rate / (2 * STEP))
    step, count = size // 2, len(take)
    if count < 2 * size:
        return leak, 0.0
    taps, most = path.shape[1], max(1, round(_PIECE_S * rate / BLOCK))
    around = len(feeds.flat)
    out, total, own = np.zeros(count, np.float32), np.zeros(count, np.float32), 0
    firsts = list(range(0, max(1, count - step), step))
    window = (signal.get_window("hann", size, fftbins=False) + 1e-6).astype(np.float32)
    half = round(_CHECK_S * rate / STEP)

    def piece(first: int) -> np.ndarray | None:
        """The leak in a piece by a path of its own, None where the whole take's is as good."""
        margin = slice(max(0, first - taps - around) // STEP * STEP, min(count, first + size + around))
        skip = first - margin.start
        part_weight = weight[margin.start // STEP : -(-margin.stop // STEP)].copy()
        part_weight[: skip // STEP], part_weight[(skip + size) // STEP :] = 0, 0
        odd = (np.arange(len(part_weight)) // half) % 2 == 1
        pieces = take[margin], feeds.only(margin)
        learned = solved(Moments(*pieces, part_weight * ~odd, taps, most), preconditioner, _FOLLOW_RIDGE, path, ROUGHLY)
        white = whitened(take[margin], feeds.flat)
        errors = [np.sum(part_weight * odd * powers(white, pieces[1].through(p))) for p in (path, learned)]
        tell(first / count)
        if errors[1] <= 0 or 10 * np.log10(errors[0] / errors[1]) <= _PAYS_DB:
            return None
        own_path = solved(Moments(*pieces, part_weight, taps, most), preconditioner, _FOLLOW_RIDGE, path)
        return through(cues[:, margin], own_path)[skip : skip + size]

    preconditioner.at(_FOLLOW_RIDGE)  # once, before the pieces share it
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
    weight = weight[np.arange(0, len(take), step) // STEP]
    take, leak = (x[::step].astype(np.float64) for x in (take, leak))
    both, own = (ndimage.uniform_filter1d(weight * x, length, mode="constant") for x in (take * leak, leak * leak))
    share = (both + _TRUST_PRIOR * own.mean()) / (own + _TRUST_PRIOR * own.mean() + 1e-30)
    return np.clip((share - _DOUBT) / _DOUBT, 0, 1), step


def _faded(sound: np.ndarray, gain: np.ndarray, step: int) -> np.ndarray:
    """A sound ``(n,)`` under gains that are given every ``step`` frames, straight lines in between; float32."""
    out = np.empty(len(sound), np.float32)
    at = np.arange(len(gain)) * step

    def fill(first: int) -> None:
        piece = sound[first : first + _PIECE]
        out[first : first + _PIECE] = piece * np.interp(np.arange(first, first + len(piece)), at, gain)

    at_once(fill, range(0, len(sound), _PIECE))
    return out
