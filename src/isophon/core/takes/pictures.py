"""Pictures of a take in small arrays: its wave at every zoom, and a spectrogram on a logarithmic axis.

Both are gathered while a take is read in order, the spectrogram from the survey's
own spectra, so that showing any span at any zoom needs no reading; a close span
can be computed sharper from its samples. Their levels may lie in memory-mapped files.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import soxr

from isophon.core.audio.spectra import Geometry

WAVE_STEP = 64  # frames in the finest column of the waveform
QUIETEST_DB = -127.5  # dBFS: the softest level of a picture, whose steps are half dB
_POOL = 4  # columns that the next coarser level joins
_LOW_RATE, _BATCH = 2_000, 1_024  # Hz, frames


@dataclass(frozen=True)
class Axis:
    """A logarithmic axis of frequency in ``rows`` rows, the highest at the top; ``window_s``: of a close picture."""

    low: float
    high: float
    rows: int = 144
    window_s: float = 0.008

    def place(self, hz: float) -> float:
        """Where a frequency lies: 0 at the top, 1 at the bottom."""
        return float(1 - np.log(max(hz, 1.0) / self.low) / np.log(self.high / self.low))

    def hz(self, place: float) -> float:
        """The frequency at a place; the inverse of :meth:`place`."""
        return float(self.low * (self.high / self.low) ** (1 - place))

    def octaves(self, least: float) -> tuple[float, ...]:
        """Frequencies to be written beside it, as many octaves apart as they lie ``least`` of its length apart."""
        octave = np.log(2) / np.log(self.high / self.low)
        step = 2 ** max(1, int(np.ceil(least / octave)))
        first = 31.25
        return tuple(hz for hz in (first * step**i for i in range(11)) if self.low <= hz <= self.high)

    @property
    def ticks(self) -> tuple[float, ...]:
        """Frequencies to be written beside it, an octave or two apart."""
        step = 2 if self.high / self.low < 60 else 4
        first = 31.25 if self.high < 1_000 else 125.0 if self.low < 150 else 250.0 if self.low < 300 else 2_000.0
        return tuple(hz for hz in (first * step**i for i in range(10)) if self.low <= hz <= self.high)


VOICE = Axis(100.0, 16_000.0, 208)  # the map
LOWS = Axis(20.0, 500.0, 96, 0.06)  # the picture of the lows
LOW_GEOMETRY = Geometry.of_seconds(_LOW_RATE, 0.08, 0.01)  # the spectra it is made of


class Wave:
    """Lowest and highest sample of every 64 frames, and of every 256, 1024 and so on."""

    def __init__(self, levels: list[np.ndarray] | None = None) -> None:
        self._parts: list[np.ndarray] = []
        self._rest = np.zeros(0, np.float32)
        self.levels = levels or []

    def add(self, block: np.ndarray) -> None:
        """Adds the next samples, ``(channels, n)``; of two channels the larger excursion is shown."""
        mono = block[0] if len(block) == 1 else np.where(np.abs(block[0]) > np.abs(block[1]), block[0], block[1])
        joined = np.concatenate([self._rest, mono])
        complete = len(joined) // WAVE_STEP * WAVE_STEP
        steps = joined[:complete].reshape(-1, WAVE_STEP)
        self._parts.append(np.stack([steps.min(axis=1), steps.max(axis=1)]))
        self._rest = joined[complete:]

    def finish(self) -> None:
        """Build the coarser levels."""
        if len(self._rest):
            self._parts.append(np.array([[self._rest.min()], [self._rest.max()]], np.float32))
        level = np.concatenate(self._parts, axis=1)
        self.levels = [level]
        while level.shape[1] > 2_000:
            padded = np.pad(level, ((0, 0), (0, -level.shape[1] % _POOL)), mode="edge").reshape(2, -1, _POOL)
            level = np.stack([padded[0].min(axis=1), padded[1].max(axis=1)])
            self.levels.append(level)
        self._parts, self._rest = [], self._rest[:0]

    def columns(self, start: float, stop: float, count: int) -> tuple[np.ndarray, np.ndarray]:
        """The lowest and the highest value in each column of a span; 0 outside of the take.

        Parameters
        ----------
        start, stop : frames.
        count : columns.

        Returns
        -------
        ``(count,)`` each.
        """
        per_column = (stop - start) / count
        index = int(np.clip(np.log(max(per_column / WAVE_STEP, 1)) / np.log(_POOL), 0, len(self.levels) - 1))
        level, step = self.levels[index], WAVE_STEP * _POOL**index
        places = np.linspace(start, stop, count + 1) / step
        edges = np.clip(places, 0, level.shape[1] - 1)
        first = edges[:-1].astype(int)
        bounds = np.append(first, int(edges[-1]) + 1)
        low = np.minimum.reduceat(level[0], np.minimum(bounds, level.shape[1] - 1))[:count]
        high = np.maximum.reduceat(level[1], np.minimum(bounds, level.shape[1] - 1))[:count]
        inside = (places[1:] > 0) & (places[:-1] < level.shape[1])
        return low * inside, high * inside


class Spectrogram:
    """Levels on the rows of an axis, a column a hop of ``geometry``, in half dB steps of a byte.

    Row 0 is the top. A byte of 0 is −127.5 dBFS or less, 255 is full scale.
    """

    def __init__(self, geometry: Geometry, axis: Axis = VOICE, levels: list[np.ndarray] | None = None) -> None:
        self.geometry, self.axis = geometry, axis
        self.hop_s = geometry.hop / geometry.sample_rate
        self._matrix = _row_matrix(geometry.freqs, axis)
        self._parts: list[np.ndarray] = []
        self.levels = levels or []

    def add(self, power: np.ndarray) -> None:
        """Adds the next power spectra, ``(frames, bins)``."""
        self._parts.append(self.rows(power))

    def finish(self) -> None:
        """Build the coarser levels."""
        level = np.zeros((self.axis.rows, max(1, sum(part.shape[1] for part in self._parts))), np.uint8)
        at = 0
        for part in self._parts:
            level[:, at : at + part.shape[1]] = part
            at += part.shape[1]
        self._parts = []
        self.levels = [level]
        while level.shape[1] > 2_000:
            if level.shape[1] % 2:
                level = np.pad(level, ((0, 0), (0, 1)), mode="edge")
            level = np.maximum(level[:, ::2], level[:, 1::2])
            self.levels.append(level)

    def rows(self, power: np.ndarray) -> np.ndarray:
        """The picture of power spectra ``(frames, bins)``, uint8 ``(rows, frames)``."""
        level = 20 * np.log10(np.maximum(power @ self._matrix, np.float32(1e-13)))
        return np.clip(level - 2 * QUIETEST_DB, 0, 255).astype(np.uint8).T

    def columns(self, start: float, stop: float, count: int) -> np.ndarray:
        """The picture of a span; empty paper outside of the take.

        Parameters
        ----------
        start, stop : s.
        count : columns.

        Returns
        -------
        uint8 ``(rows, count)``.
        """
        per_column = (stop - start) / count / self.hop_s
        index = int(np.clip(np.floor(np.log2(max(per_column, 1))), 0, len(self.levels) - 1))
        level = self.levels[index]
        at = (np.arange(count) + 0.5) * (stop - start) / count + start
        frames = at / (self.hop_s * 2**index)
        picked = level[:, np.clip(frames, 0, level.shape[1] - 1).astype(int)]
        picked[:, (frames < 0) | (frames >= level.shape[1])] = 0
        return picked


def lows_of(blocks: Iterable[np.ndarray], sample_rate: int, channels: int) -> Spectrogram:
    """The picture of a take's lows, finer in frequency than the survey's spectra.

    Parameters
    ----------
    blocks : the take in order, ``(channels, n)`` each.
    sample_rate : Hz.
    channels : how many.
    """
    stream = soxr.ResampleStream(sample_rate, _LOW_RATE, channels, "float32", "LQ")
    pieces = [stream.resample_chunk(block.T.copy()) for block in blocks]
    pieces.append(stream.resample_chunk(np.zeros((0, channels), np.float32), last=True))
    low = np.concatenate([piece.reshape(-1, channels) for piece in pieces]).T
    half = LOW_GEOMETRY.size // 2
    low = np.pad(low, ((0, 0), (half, half)))
    spectrogram, hop = Spectrogram(LOW_GEOMETRY, LOWS), LOW_GEOMETRY.hop
    frames = (low.shape[1] - 2 * half) // hop + 1
    for first in range(0, frames, _BATCH):
        piece = low[:, first * hop : (min(frames, first + _BATCH) - 1) * hop + 2 * half]
        spectrogram.add(np.add.reduce([LOW_GEOMETRY.power(np.ascontiguousarray(channel)) for channel in piece]))
    spectrogram.finish()
    return spectrogram


def close_picture(samples: np.ndarray, sample_rate: int, frames: int, axis: Axis) -> np.ndarray:
    """A sharp picture of a short span.

    Parameters
    ----------
    samples : ``(channels, n)``, the span with :func:`close_margin` frames more at either side.
    sample_rate : Hz.
    frames : about as many columns are made.
    axis : its frequencies.

    Returns
    -------
    uint8 ``(rows, columns)``.
    """
    margin = close_margin(sample_rate, axis)
    hop_s = max(1, (samples.shape[1] - 2 * margin) // frames) / sample_rate
    geometry = Geometry.of_seconds(sample_rate, axis.window_s, hop_s)
    power = np.add.reduce([geometry.power(np.ascontiguousarray(channel)) for channel in samples])
    return Spectrogram(geometry, axis).rows(power)


def close_margin(sample_rate: int, axis: Axis) -> int:
    """Frames that :func:`close_picture` needs at either side of the span."""
    return Geometry.of_seconds(sample_rate, axis.window_s, 0.001).size // 2


def _row_matrix(freqs: np.ndarray, axis: Axis) -> np.ndarray:
    """Weights ``(bins, rows)``: each row the mean power around its frequency, interpolated between bins."""
    edges = axis.low * (axis.high / axis.low) ** (1 - np.arange(axis.rows + 1) / axis.rows)
    centres = np.sqrt(edges[1:] * edges[:-1])
    matrix = np.zeros((len(freqs), axis.rows), np.float32)
    for row, (high, low, centre) in enumerate(zip(edges[:-1], edges[1:], centres, strict=True)):
        inside = np.flatnonzero((freqs >= low) & (freqs < high))
        if len(inside) > 1:
            matrix[inside, row] = 1 / len(inside)
        elif centre <= freqs[-1]:
            at = centre / freqs[1]
            lower = min(int(at), len(freqs) - 2)
            matrix[lower, row], matrix[lower + 1, row] = 1 - (at - lower), at - lower
    return matrix
