"""Pitch and its strength, by autocorrelation.

Boersma 1993, "Accurate short-term analysis of the fundamental frequency and the
harmonics-to-noise ratio of a sampled sound": the autocorrelation of a windowed
frame divided by that of the window, candidates at its peaks, and the cheapest
path through the candidates. Lags come from a power spectrum whose top is rolled
off, which interpolates them and keeps noise above the voice out of the strength.
"""

from __future__ import annotations

import numpy as np
from scipy import fft

from isophon.core.audio.spectra import frames_of

RATE = 8_000  # Hz at which the pitch is looked for
HOP_S = 0.01  # s between frames
LOWEST = 60.0  # Hz: the lowest pitch
HIGHEST = 1_100.0  # Hz: the highest

_CANDIDATES = 5  # pitches in each frame, and none
# what each octave down costs, so that not every second period is taken for one (0.01 in the paper, from memory)
_OCTAVE_COST = 0.01
_JUMP_COST = 0.35  # what a jump of an octave from frame to frame costs (0.35 in the paper, from memory)
_SWITCH_COST = 0.14  # what it costs to begin or end a voice (0.14 in the paper, from memory)
_UNVOICED = 0.45  # strength of no pitch
_ROLL_OFF = (1_800.0, 3_200.0)  # Hz between which what is over the low partials is faded out
_UPSAMPLING = 2  # of the autocorrelation, to place its peaks
_BATCH = 1_000  # frames at once


def track_pitch(samples: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Fundamental frequency and strength every 10 ms.

    ``samples``: float32 ``(n,)`` at 8 kHz. Returns ``f0`` in Hz (0 where no
    period is found) and ``strength`` from 0 to 1, both ``(ceil(n / 80),)``.
    """
    hop = round(RATE * HOP_S)
    size = round(3 * RATE / LOWEST)
    count = -(-len(samples) // hop)
    autocorrelation = _Autocorrelation(size)
    found = []
    for first in range(0, count, _BATCH):
        last = min(count, first + _BATCH)
        begin, end = first * hop - size // 2, (last - 1) * hop - size // 2 + size
        inside = samples[max(0, begin) : max(0, end)]
        piece = np.pad(inside, (max(0, -begin), max(0, end - max(0, begin) - len(inside))))
        found.append(_candidates(autocorrelation(frames_of(piece, size, hop))))
    del samples
    lags = np.concatenate([lag for lag, _ in found])
    peaks = np.concatenate([peak for _, peak in found])
    chosen = _cheapest_path(lags, peaks)
    rows = np.arange(count)
    lag, peak = lags[rows, chosen], peaks[rows, chosen]
    rate = RATE * _UPSAMPLING
    f0 = np.where(lag > 0, rate / np.maximum(lag, 1.0), 0.0)
    strength = np.where(lag > 0, peak, peaks[:, :-1].max(axis=1))
    return f0.astype(np.float32), np.clip(strength, 0, 1).astype(np.float32)


class _Autocorrelation:
    """Normalised autocorrelation of windowed frames, at twice the rate."""

    def __init__(self, size: int) -> None:
        self.window = np.hanning(size).astype(np.float32)
        self.transform = fft.next_fast_len(size + round(RATE / LOWEST) + 1, real=True)
        freqs = fft.rfftfreq(self.transform, 1 / RATE)
        low, high = _ROLL_OFF
        self.taper = (0.5 + 0.5 * np.cos(np.pi * np.clip((freqs - low) / (high - low), 0, 1))).astype(np.float32)
        self.lags = round(RATE * _UPSAMPLING / LOWEST) + 2
        own = self._raw(self.window[None, :])
        self.own = own / own[:, :1]

    def _raw(self, windowed: np.ndarray) -> np.ndarray:
        spectrum = fft.rfft(windowed, self.transform, axis=1)
        power = (np.square(spectrum.real) + np.square(spectrum.imag)) * self.taper
        return fft.irfft(power, self.transform * _UPSAMPLING, axis=1)[:, : self.lags]

    def __call__(self, frames: np.ndarray) -> np.ndarray:
        centred = frames - frames.mean(axis=1, keepdims=True)
        raw = self._raw(centred * self.window)
        return raw / (np.maximum(raw[:, :1], 1e-20) * self.own)


def _candidates(normalised: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Lags (in frames at the doubled rate) and heights of the best peaks, and a last one for "no period"."""
    shortest = int(RATE * _UPSAMPLING / HIGHEST)
    middle = normalised[:, shortest:-1]
    before, after = normalised[:, shortest - 1 : -2], normalised[:, shortest + 1 :]
    is_peak = (middle > before) & (middle >= after) & (middle > 0.15)
    lags = np.arange(shortest, shortest + middle.shape[1])
    score = np.where(is_peak, middle - _OCTAVE_COST * np.log2(lags / shortest), -1.0)
    best = np.argpartition(-score, _CANDIDATES - 1, axis=1)[:, :_CANDIDATES]
    rows = np.arange(len(score))[:, None]
    left, top, right = before[rows, best], middle[rows, best], after[rows, best]
    bend = left - 2 * top + right
    shift = np.where(bend < 0, 0.5 * (left - right) / np.where(bend < 0, bend, -1.0), 0.0)
    there = is_peak[rows, best]
    lag = np.where(there, lags[best] + shift, 0.0)
    peak = np.where(there, np.minimum(top - 0.25 * (left - right) * shift, 1.0), 0.0)
    none = np.zeros((len(score), 1))
    return np.hstack([lag, none]), np.hstack([peak, none + _UNVOICED])


def _cheapest_path(lags: np.ndarray, peaks: np.ndarray) -> np.ndarray:
    """Which candidate each frame takes so that the whole path scores best (Viterbi)."""
    there = lags > 0
    score = peaks - np.where(there, _OCTAVE_COST * np.log2(np.maximum(lags, 1.0)), 0.0)
    score[:, :-1][~there[:, :-1]] = -1.0
    octaves = np.log2(np.maximum(lags, 1.0))
    back = np.zeros(lags.shape, np.int8)
    total = score[0].copy()
    width = lags.shape[1]
    columns = np.arange(width)
    for first in range(1, len(lags), _BATCH):
        now = slice(first, min(first + _BATCH, len(lags)))
        steps = np.abs(octaves[now, None, :] - octaves[first - 1 : now.stop - 1, :, None]) * _JUMP_COST
        steps[:, -1, :] = steps[:, :, -1] = _SWITCH_COST
        steps[:, -1, -1] = 0.0
        for i, step in enumerate(steps, first):
            options = total[:, None] - step
            best = options.argmax(axis=0)
            total = options[best, columns] + score[i]
            back[i] = best
    chosen = np.zeros(len(lags), np.int64)
    chosen[-1] = int(total.argmax())
    for i in range(len(lags) - 1, 0, -1):
        chosen[i - 1] = back[i, chosen[i]]
    return chosen
