"""A limiter for ears and loudspeakers: nothing that is listened to goes over −1 dBTP. No file goes through it.

The gain that each sample needs is known a little ahead; its minimum over that time, averaged over the same time,
reaches what is needed just when the sample does (the look-ahead limiter as in Giannoulis, Massberg & Reiss 2012 and in
Zölzer, DAFX, 2011, from memory). Peaks between samples are those of ITU-R BS.1770-5, Annex 2.
"""

from __future__ import annotations

import math

import numpy as np
from scipy import ndimage, signal

from isophon.core.audio.loudness import interpolation

CEILING_DB = -1.0
_AHEAD_S = 0.0015  # s that it looks ahead
_RELEASE_S = 0.08  # s: time constant of its release
_RESTS = 1e-4  # less gain taken off than this is none
_OVERSAMPLING = 4  # of the true peak (BS.1770-5, Annex 2)


class Limiter:
    """Processes a stream block by block, some ms late; its state goes on from one to the next.

    ``taken_db``: how much it took off at most in the last block.
    """

    def __init__(self, sample_rate: int) -> None:
        self._ahead = max(8, round(_AHEAD_S * sample_rate))
        self._factor = _OVERSAMPLING if sample_rate < 96_000 else 2 if sample_rate < 192_000 else 1
        self._taps = interpolation(self._factor)
        self._reach = len(self._taps) // (2 * self._factor) + 1  # frames around one that its true peak depends on
        self.delay = self._ahead + self._reach
        self._waiting = np.zeros((max(self.delay, 2 * self._reach), 2), np.float32)
        self._needed = np.ones(2 * self._ahead)
        self._decay = math.exp(-1 / (_RELEASE_S * sample_rate))
        self._taken = 0.0
        self._ceiling = 10 ** (CEILING_DB / 20)
        self.taken_db = 0.0

    def process(self, block: np.ndarray) -> np.ndarray:
        """The next frames, float32 ``(frames, 2)``; those of ``delay`` frames ago come out."""
        frames = len(block)
        stream = np.concatenate([self._waiting, block])
        self._waiting = stream[frames:]
        out = stream[len(self._waiting) - self.delay :][:frames]
        needed = np.concatenate([self._needed, self._gains(stream[-frames - 2 * self._reach :])])
        self._needed = needed[frames:]
        self.taken_db = 0.0
        if self._taken < _RESTS and needed.min() >= 1.0:
            self._taken = 0.0
            return out
        gain = self._smooth(needed)
        self.taken_db = float(-20 * np.log10(gain.min()))
        return (out * gain[:, None]).astype(np.float32)

    def _gains(self, samples: np.ndarray) -> np.ndarray:
        """The gain that each frame but the outer ones needs, ``(frames − 2·reach,)``."""
        reach, factor = self._reach, self._factor
        peaks = np.abs(samples).max(axis=1)
        if self._factor > 1 and peaks.max(initial=0.0) > self._ceiling / 4:
            up = np.abs(signal.upfirdn(self._taps, samples, factor, 1, axis=0)).max(axis=1)
            middle = len(self._taps) // 2
            between = np.pad(up[middle:], (0, factor * len(samples)))[: factor * len(samples)]
            between = between.reshape(-1, factor).max(axis=1)
            between[1:] = np.maximum(between[1:], between[:-1])
            peaks = np.maximum(peaks, between)
        inner = peaks[reach : len(peaks) - reach]
        return np.minimum(1.0, self._ceiling / np.maximum(inner, 1e-9))

    def _smooth(self, needed: np.ndarray) -> np.ndarray:
        """The gain of the frames that come out, from what those and the ``ahead`` before and after them need."""
        ahead = self._ahead
        least = ndimage.minimum_filter1d(needed, ahead + 1, mode="nearest", origin=-((ahead + 1) // 2))
        frames = len(needed) - 2 * ahead
        held = self._released(1.0 - least[: frames + ahead], frames)
        return 1.0 - np.convolve(held, np.full(ahead + 1, 1 / (ahead + 1)), "valid")

    def _released(self, taken: np.ndarray, frames: int) -> np.ndarray:
        """What is taken off comes back slowly: no less than what was taken before, decaying."""
        falls = np.power(self._decay, np.arange(1, len(taken) + 1))
        held = np.maximum.accumulate(np.concatenate([[self._taken], taken / falls]))[1:] * falls
        self._taken = float(held[frames - 1])
        return held
