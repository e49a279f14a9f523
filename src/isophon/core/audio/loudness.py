"""Loudness and true peak: ITU-R BS.1770-5, in one pass over blocks of samples."""

from __future__ import annotations

import math
from typing import overload

import numpy as np
from scipy import signal

from isophon.core.audio.filters import k_weighting

SILENCE_DB = -150.0  # dB: what silence is shown as (a limit of ours, under the noise of 24 bits)
ABSOLUTE_GATE = -70.0  # LUFS (BS.1770-5, Annex 1)
RELATIVE_GATE = -10.0  # LU under the mean of what passes the absolute gate (the same)
_OFFSET = -0.691  # dB (the same)
_STEP_S = 0.1  # s: gating blocks of 400 ms overlap by 75 % (the same)
_OVERSAMPLING = 4  # times, for the true peak at 48 kHz (Annex 2)
_PEAK_PIECE, _PIECES = 64, 64  # frames, and how many such at once


@overload
def db(power: float) -> float: ...
@overload
def db(power: np.ndarray) -> np.ndarray: ...
def db(power: np.ndarray | float) -> np.ndarray | float:
    """Ten times the decimal logarithm of a power, never below −150 dB; in the shape of ``power``."""
    level = 10.0 * np.log10(np.maximum(power, 10.0 ** (SILENCE_DB / 10)))
    return float(level) if np.ndim(level) == 0 else level


@overload
def lufs(k_power: float) -> float: ...
@overload
def lufs(k_power: np.ndarray) -> np.ndarray: ...
def lufs(k_power: np.ndarray | float) -> np.ndarray | float:
    """Loudness of a K-weighted mean square, summed over channels, LUFS; in the shape of ``k_power``."""
    return db(k_power) + _OFFSET


def gated_loudness(step_power: np.ndarray) -> float:
    """Integrated loudness, gated at −70 LUFS and at 10 LU under the mean of what is left (BS.1770-5, Annex 1).

    Parameters
    ----------
    step_power : ``(steps,)``, K-weighted mean squares of 100 ms, summed over channels.

    Returns
    -------
    LUFS.
    """
    if len(step_power) < 4:
        return lufs(float(np.mean(step_power))) if len(step_power) else SILENCE_DB
    blocks = np.convolve(step_power, np.full(4, 0.25), mode="valid")
    loud = blocks[lufs(blocks) > ABSOLUTE_GATE]
    if not len(loud):
        return SILENCE_DB
    gate = lufs(float(loud.mean())) + RELATIVE_GATE
    over_gate = loud[lufs(loud) > gate]
    return lufs(float(over_gate.mean())) if len(over_gate) else SILENCE_DB


class Meter:
    """Integrated loudness (LUFS) and true peak (dBTP) of a stream of blocks.

    Feed float arrays ``(channels, n)`` to :meth:`add` in order. Mono counts as
    one channel.
    """

    def __init__(self, sample_rate: int, channels: int) -> None:
        one, other = k_weighting(sample_rate)
        self._b, self._a = np.convolve(one[:3], other[:3]), np.convolve(one[3:], other[3:])  # in one go: half the time
        self._state = np.zeros((channels, len(self._a) - 1))
        self._step = round(sample_rate * _STEP_S)
        self._sum, self._count = 0.0, 0
        self._steps: list[float] = []
        self._oversampling = _OVERSAMPLING if sample_rate < 96_000 else 2 if sample_rate < 192_000 else 1
        self._taps = interpolation(self._oversampling)
        self._tail = np.zeros((channels, len(self._taps) // self._oversampling + 1), np.float32)
        self._most = max(float(np.abs(self._taps[phase :: self._oversampling]).sum())
                         for phase in range(self._oversampling))  # fmt: skip
        self._peak = 0.0

    def add(self, block: np.ndarray) -> None:
        """Adds the next samples, ``(channels, n)``."""
        weighted, self._state = signal.lfilter(self._b, self._a, block.astype(np.float64), axis=1, zi=self._state)
        self._add_power(np.square(weighted).sum(axis=0))
        joined = np.concatenate([self._tail, block], axis=1)
        self._peak = max(self._peak, float(np.abs(block).max(initial=0.0)))
        if self._oversampling > 1:
            self._look_between(joined)
        self._tail = joined[:, -self._tail.shape[1] :]

    def _look_between(self, joined: np.ndarray) -> None:
        """Look for higher peaks between samples, wherever what is interpolated could be higher than any so far."""
        reach, skip = self._tail.shape[1], len(self._taps)
        span = _PEAK_PIECE + 4 * reach
        if joined.shape[1] < span:
            up = signal.upfirdn(self._taps, joined, self._oversampling, 1, axis=1)
            self._peak = max(self._peak, float(np.abs(up[:, skip:-skip]).max(initial=0.0)))
            return
        size = np.abs(joined).max(axis=0)
        highest = np.pad(size, (0, -len(size) % _PEAK_PIECE)).reshape(-1, _PEAK_PIECE).max(axis=1)
        around = self._most * np.maximum(highest, np.maximum(np.append(highest[1:], 0), np.append(0, highest[:-1])))
        higher = np.flatnonzero(around > self._peak)
        higher = higher[np.argsort(-around[higher])]
        windows = np.lib.stride_tricks.sliding_window_view(joined, span, axis=1)
        for some in (higher[i : i + _PIECES] for i in range(0, len(higher), _PIECES)):
            if around[some[0]] <= self._peak:
                break
            begins = np.clip(some * _PEAK_PIECE - 2 * reach, 0, joined.shape[1] - span)
            up = signal.upfirdn(self._taps, windows[:, begins], self._oversampling, 1, axis=2)
            self._peak = max(self._peak, float(np.abs(up[:, :, skip:-skip]).max()))

    def loudness(self) -> float:
        """Integrated loudness so far, LUFS; −150 where nothing is above the gate."""
        steps = self._steps
        if not steps and self._count:
            steps = [self._sum / self._count]
        return gated_loudness(np.array(steps))

    def true_peak(self) -> float:
        """Highest level between and at the samples so far, dBTP."""
        return max(SILENCE_DB, 20 * math.log10(self._peak)) if self._peak > 0 else SILENCE_DB

    def _add_power(self, power: np.ndarray) -> None:
        at = 0
        while at < len(power):
            take = min(self._step - self._count, len(power) - at)
            self._sum += float(power[at : at + take].sum())
            self._count += take
            at += take
            if self._count == self._step:
                self._steps.append(self._sum / self._step)
                self._sum, self._count = 0.0, 0


def interpolation(factor: int) -> np.ndarray:
    """The interpolation low-pass for true peaks: 12 taps a phase (BS.1770-5, Annex 2).

    Parameters
    ----------
    factor : of oversampling.

    Returns
    -------
    ``(taps,)``.
    """
    if factor == 1:
        return np.ones(1)
    return signal.firwin(12 * factor + 1, 1.0 / factor, window=("kaiser", 7.0)) * factor
