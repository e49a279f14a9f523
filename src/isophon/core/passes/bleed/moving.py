"""How a leak moves: a head that turns brings it nearer and farther, earlier and later.

Delay and gain of the whole leak are followed from moment to moment: each tells, by weighted least squares, how
much earlier and louder than predicted the leak is in it, as far as it shows beside the voice at all; a head has no
reason to jerk, so the track is the smoothest that agrees with what the moments before and after tell
(Whittaker 1923 and Henderson 1924, the smoother of a random walk of the velocity: it knows the future, as a
canceller on a stage does not). How stiff it is, cross-validation decides; stiff for ever is a leak that stays.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import fft, linalg

from isophon.core.audio.spectra import overlap_add
from isophon.core.audio.threads import at_once
from isophon.core.passes.bleed.filtering import filtered
from isophon.core.passes.bleed.weighing import STEP, at_frames, powers

_HOP_S = 0.01  # s between the windows in which a sound is moved
_LANES = 4  # windows over each sample
_STEP_S = 0.02  # s between the points of a track
_LEAST_STEPS = 100  # of which one is estimated
_DELAY_S, _GAIN = 20e-6, 0.1  # the units of a track: what a head does that moves by some mm
_STIFF = (1e2, 1e3, 1e4, 1e5, 1e6, 1e7)  # what a track's curvature costs, against what the moments tell
_HELD = 0.02  # what being away from where it stays costs
_ROUNDS = 2  # times that the track is estimated, each from the last
_FOLDS = 5  # of the cross-validation
_FOLD_S = 0.35  # s that stay in one fold
_PAYS = 0.003  # of what is not explained
_BATCH = 512  # windows at once
_SLOPE = 48  # taps to either side of the filter for the slope
_PIECE = 512  # steps


@dataclass(frozen=True, eq=False)
class Motion:
    """By how many s later and how many times louder a leak is than one that stays, every ``step_s``; both ``(n,)``."""

    delay_s: np.ndarray
    gain: np.ndarray
    step_s: float

    @classmethod
    def along(cls, track: np.ndarray, step_s: float) -> Motion:
        """The motion of a track.

        Parameters
        ----------
        track : ``(steps, 2)``, louder and later, in their units.
        step_s : s between its points.
        """
        return cls(_DELAY_S * track[:, 1], 1 + _GAIN * track[:, 0], step_s)

    def track_at(self, steps: int, step_s: float) -> np.ndarray:
        """The motion in its units at the middles of steps that may have another length.

        Parameters
        ----------
        steps : how many.
        step_s : s between them.

        Returns
        -------
        ``(steps, 2)``.
        """
        at, mine = (np.arange(steps) + 0.5) * step_s, (np.arange(len(self.gain)) + 0.5) * self.step_s
        louder, later = (self.gain - 1) / _GAIN, self.delay_s / _DELAY_S
        return np.stack([np.interp(at, mine, louder), np.interp(at, mine, later)], axis=1)

    def of(self, sounds: np.ndarray, rate: int) -> np.ndarray:
        """Sounds moved by this.

        Parameters
        ----------
        sounds : ``(n, frames)``.
        rate : Hz.

        Returns
        -------
        float32 ``(n, frames)``.
        """
        return np.stack([self._moved(sound, rate) for sound in sounds])

    def _moved(self, sound: np.ndarray, rate: int) -> np.ndarray:
        hop = round(_HOP_S * rate)
        size = _LANES * hop
        window = np.sqrt(0.5 * np.hanning(size + 1)[:-1]).astype(np.float32)
        padded = np.pad(sound, size)
        count = (len(padded) - size) // hop + 1
        at = (np.arange(count) * hop - size / 2) / rate  # the middles of the windows
        times = (np.arange(len(self.gain)) + 0.5) * self.step_s
        delay, gain = np.interp(at, times, self.delay_s) * rate, np.interp(at, times, self.gain)
        turn = -2j * np.pi * np.arange(size // 2 + 1) / size
        frames = np.lib.stride_tricks.sliding_window_view(padded, size)[::hop]

        def some(first: int) -> np.ndarray:
            part = slice(first, first + _BATCH)
            spectra = fft.rfft(frames[part] * window, axis=1)
            spectra *= (gain[part, None] * np.exp(turn * delay[part, None])).astype(np.complex64)
            pieces = fft.irfft(spectra, size, axis=1) * window
            out = np.zeros((len(pieces) + _LANES - 1) * hop, np.float32)
            overlap_add(out, pieces, hop)
            return out

        firsts = range(0, count, _BATCH)
        out = np.zeros(len(padded), np.float32)
        for first, part in zip(firsts, at_once(some, firsts), strict=True):
            out[first * hop : first * hop + len(part)] += part
        return out[size : size + len(sound)]


def motion_of(
    take: np.ndarray, leak: np.ndarray, weight: np.ndarray, rate: int, before: Motion | None = None
) -> Motion | None:
    """How a predicted leak moves in a take.

    Parameters
    ----------
    take, leak : ``(n,)``.
    weight : ``(steps,)``, how little else sounds.
    rate : Hz.
    before : how it moved as far as was known.

    Returns
    -------
    None where a leak that stays explains as much.
    """
    step = round(_STEP_S * rate)
    count = -(-len(take) // step)
    if count < _LEAST_STEPS or not weight.any():
        return None
    track = before.track_at(count, step / rate) if before else np.zeros((count, 2))
    stiff = None
    for _ in range(1 if before else _ROUNDS):
        predicted = Motion.along(track, step / rate).of(leak[None], rate)[0] if track.any() else leak
        error = take - predicted
        noise = float((weight * powers(error)).sum() / weight.sum()) + 1e-30
        matrix, side = _sums(error, predicted, weight, rate, step)
        del error, predicted
        matrix, side = matrix / noise, side / noise
        side += np.einsum("tij,tj->ti", matrix, track)  # the whole track is what is smooth
        stiff = stiff or _stiffness(matrix, side, step / rate, _PAYS * STEP * float(weight.sum()))
        if stiff is None:
            return None
        track = _track(matrix, side, stiff)
    return Motion.along(track, step / rate)


def _sums(
    error: np.ndarray, leak: np.ndarray, weight: np.ndarray, rate: int, step: int
) -> tuple[np.ndarray, np.ndarray]:
    """Normal matrices ``(steps, 2, 2)`` and sides ``(steps, 2)`` of louder and later, in their units."""
    slope = filtered(leak, _slope(), _SLOPE)

    def summed(first: int) -> np.ndarray:
        """``(5, steps)`` of a piece, none of which need be held for the whole take."""
        piece = slice(first, min(len(error), first + _PIECE * step))
        sounds = at_frames(weight, piece), leak[piece], slope[piece], error[piece]
        weighed, louder, later, missed = (np.pad(x, (0, -len(x) % step)).reshape(-1, step) for x in sounds)
        louder, later = np.float32(_GAIN) * louder, np.float32(-_DELAY_S * rate) * later
        a, b = weighed * louder, weighed * later
        return np.stack([
            np.einsum("ts,ts->t", x, y) for x, y in ((a, louder), (a, later), (b, later), (a, missed), (b, missed))
        ]).astype(np.float64)  # fmt: skip

    aa, ab, bb, *side = np.concatenate(at_once(summed, range(0, len(error), _PIECE * step)), axis=1)
    return np.stack([np.stack([aa, ab], axis=1), np.stack([ab, bb], axis=1)], axis=1), np.stack(side, axis=1)


def _slope() -> np.ndarray:
    """A filter that gives a sound's slope a frame (the derivative of a windowed sinc)."""
    at = np.arange(-_SLOPE, _SLOPE + 1)
    taps = np.where(at == 0, 0.0, (-1.0) ** at / np.where(at == 0, 1, at))
    return taps * np.hanning(len(at) + 2)[1:-1]


def _track(matrix: np.ndarray, side: np.ndarray, stiff: float) -> np.ndarray:
    """The smoothest track ``(steps, 2)`` that agrees; ``stiff``: what its curvature costs."""
    count = len(side)
    second = np.zeros((3, count))
    second[0, :] = 6.0
    second[0, [0, -1]] = 1.0
    second[0, [1, -2]] = 5.0
    second[1, :-1] = -4.0
    second[1, [0, count - 2]] = -2.0
    second[2, :-2] = 1.0
    bands = np.zeros((5, 2 * count))
    for k in range(2):
        bands[0, k::2] = matrix[:, k, k] + stiff * second[0] + _HELD
        bands[2, k::2] = stiff * second[1]
        bands[4, k::2] = stiff * second[2]
    bands[1, ::2] = matrix[:, 0, 1]
    return linalg.solveh_banded(bands, side.reshape(-1), lower=True).reshape(-1, 2)


def _stiffness(matrix: np.ndarray, side: np.ndarray, step_s: float, most: float) -> float | None:
    """The stiffness whose tracks explain most of the moments that were left out; None where that is too little."""
    fold = (np.arange(len(side)) * step_s / _FOLD_S).astype(int) % _FOLDS
    best = None
    for stiff in _STIFF:
        gain = 0.0
        for k in range(_FOLDS):
            mine = fold == k
            track = _track(matrix * ~mine[:, None, None], side * ~mine[:, None], stiff)[mine]
            gain += float(np.sum(2 * track * side[mine]) - np.einsum("ti,tij,tj->", track, matrix[mine], track))
        if gain > most:
            best, most = stiff, gain
    return best
