"""Measures of a survey that are taken while the blocks of a recording pass."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import soxr

from isophon.core.audio import pitch
from isophon.core.audio.filters import k_power_response
from isophon.core.audio.spectra import Geometry, band_matrix, third_octave_edges

_WINDOW_S = 0.0107  # s: length of a spectrum: 512 samples at 48 kHz
_HOP_S = 0.005  # s between frames
_LOWEST_BAND = 100.0  # Hz
_HIGHEST_BAND = 20_000.0  # Hz


def geometry_at(sample_rate: int) -> Geometry:
    """Window and hop of the survey's spectra."""
    return Geometry.of_seconds(sample_rate, _WINDOW_S, _HOP_S)


class BandStream:
    """Band powers of a stream, with the seams between blocks carried over."""

    def __init__(self, sample_rate: int, samples: int, on_spectra: Callable[[np.ndarray], None] | None) -> None:
        self.geometry = geometry_at(sample_rate)
        self.on_spectra = on_spectra
        self.count = self.geometry.count(samples)
        top = min(_HIGHEST_BAND, sample_rate / 2 / 2 ** (1 / 6))
        self.edges = third_octave_edges(_LOWEST_BAND, top)
        freqs = self.geometry.freqs
        matrix = band_matrix(freqs, self.edges)
        k_weight = k_power_response(np.maximum(freqs, 1.0), sample_rate).astype(np.float32)
        k_weight[0] = 0.0
        self.matrix = np.hstack([matrix, matrix * k_weight[:, None], k_weight[:, None]])
        self.tail: np.ndarray | None = None
        self.rows = np.zeros((self.count, self.matrix.shape[1]), np.float32)
        self.done = 0

    def add(self, block: np.ndarray) -> None:
        """Adds the next samples, ``(channels, n)``."""
        if self.tail is None:
            self.tail = np.zeros((block.shape[0], self.geometry.size // 2), np.float32)
        joined = np.concatenate([self.tail, block], axis=1)
        self.tail = joined[:, self._reduce(joined) * self.geometry.hop :]

    def _reduce(self, joined: np.ndarray) -> int:
        frames = (joined.shape[1] - self.geometry.size) // self.geometry.hop + 1
        if frames <= 0:
            return 0
        span = (frames - 1) * self.geometry.hop + self.geometry.size
        power = np.add.reduce([self.geometry.power(channel[:span]) for channel in joined])
        used = min(frames, self.count - self.done)
        self.rows[self.done : self.done + used] = power[:used] @ self.matrix
        self.done += frames
        if self.on_spectra:
            self.on_spectra(power)
        return frames

    def finish(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Power in bands, K-weighted power in bands, ``(frames, bands)`` each, and K-weighted power, ``(frames,)``."""
        assert self.tail is not None
        missing = self.count - self.done
        short = (missing - 1) * self.geometry.hop + self.geometry.size - self.tail.shape[1]
        self._reduce(np.pad(self.tail, ((0, 0), (0, max(0, short)))))
        n = len(self.edges) - 1
        return self.rows[:, :n], self.rows[:, n : 2 * n], np.ascontiguousarray(self.rows[:, -1])


class LowRate:
    """The stream at 8 kHz, the louder channel's shape kept: left and right are summed unless they cancel."""

    def __init__(self, sample_rate: int, samples: int) -> None:
        same = sample_rate == pitch.RATE
        self.resampler = None if same else soxr.ResampleStream(sample_rate, pitch.RATE, 1, "float32", "LQ")
        self.samples = np.zeros(max(1, round(samples * pitch.RATE / sample_rate)), np.float32)
        self.done = 0

    def add(self, block: np.ndarray) -> None:
        """Adds the next samples, ``(channels, n)``."""
        mono = block[0] if block.shape[0] == 1 else _one_channel(block)
        self._put(self.resampler.resample_chunk(mono) if self.resampler else mono)

    def _put(self, piece: np.ndarray) -> None:
        piece = piece[: len(self.samples) - self.done]
        self.samples[self.done : self.done + len(piece)] = piece
        self.done += len(piece)

    def finish(self) -> np.ndarray:
        """All samples at the low rate, ``(n,)``."""
        if self.resampler:
            self._put(self.resampler.resample_chunk(np.zeros(0, np.float32), last=True))
        samples, self.samples = self.samples, np.zeros(0, np.float32)
        return samples


def _one_channel(block: np.ndarray) -> np.ndarray:
    opposite = float(np.dot(block[0], block[1])) < 0
    return (block[0] - block[1] if opposite else block[0] + block[1]) * np.float32(0.5)
