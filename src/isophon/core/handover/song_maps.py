"""A part's map at song scale, as sung and cleaned, for the proof: levels in bands of frequency over its time."""

from __future__ import annotations

import base64
import struct
import zlib

import numpy as np

from isophon.core.audio.spectra import power_spectra

COLUMNS = 606  # of a map
ROWS = 72  # of it
_WINDOW = 2_048  # samples of a spectrum
_LOW_HZ = 60.0  # Hz at the bottom
_HIGH_HZ = 12_000.0  # Hz at the top
_DEEP_DB = 66.0  # under the loudest, where the paper is
_GONE_DB = 3.0  # less, from which on red is what goes
# colours of the map: paper, what stays, what goes
_PAPER, _INK, _RED = (np.array(rgb, float) for rgb in ((246, 242, 233), (34, 48, 58), (194, 69, 45)))


class SongMaps:
    """Gathers both maps of a take of ``seconds`` at ``sample_rate`` Hz, block by block."""

    def __init__(self, sample_rate: int, seconds: float) -> None:
        self._per_frame = COLUMNS / max(1.0, seconds * sample_rate)
        self._window = np.hanning(_WINDOW).astype(np.float32)
        edges = np.geomspace(_LOW_HZ, min(_HIGH_HZ, 0.49 * sample_rate), ROWS + 1)
        bins = np.fft.rfftfreq(_WINDOW, 1 / sample_rate)
        self._first = np.minimum(np.searchsorted(bins, edges[:-1]), len(bins) - 1)
        self._last = np.maximum(np.searchsorted(bins, edges[1:]), self._first + 1)
        self._sums = np.zeros((2, ROWS, COLUMNS))
        self._counts = np.zeros(COLUMNS)
        self._at = 0

    def add(self, sung: np.ndarray, cleaned: np.ndarray) -> None:
        """Adds the next block of both, float32 ``(channels, n)`` each."""
        count = sung.shape[1] // _WINDOW
        places = self._at + _WINDOW * (np.arange(count) + 0.5)
        columns = np.minimum(COLUMNS - 1, (places * self._per_frame).astype(int))
        for sums, block in zip(self._sums, (sung, cleaned), strict=True):
            frames = block[:, : count * _WINDOW].mean(axis=0).reshape(count, _WINDOW)
            total = np.pad(np.cumsum(power_spectra(frames, self._window), axis=1, dtype=np.float64), ((0, 0), (1, 0)))
            means = (total[:, self._last] - total[:, self._first]) / (self._last - self._first)
            np.add.at(sums.T, columns, means)
        np.add.at(self._counts, columns, 1)
        self._at += sung.shape[1]

    def pictures(self) -> tuple[str, str]:
        """As sung, in ink; and cleaned in ink, with what went in red over it; data URIs of PNG pictures."""
        there = np.flatnonzero(self._counts)
        if not len(there):
            return "", ""
        nearest = there[np.abs(np.arange(COLUMNS)[:, None] - there[None]).argmin(axis=1)]
        levels = 10 * np.log10(self._sums[:, :, nearest] / self._counts[nearest] + 1e-12)
        top = float(np.percentile(levels[0], 99.5))
        depth = np.clip((levels - top + _DEEP_DB) / _DEEP_DB, 0, 1)[:, ::-1]
        gone = np.clip((levels[0] - levels[1] - _GONE_DB) / 12.0, 0, 1)[::-1]
        sung = _PAPER + depth[0][..., None] * (_INK - _PAPER)
        cleaned = _PAPER + depth[1][..., None] * (_INK - _PAPER)
        red = (gone * (depth[0] - depth[1]).clip(0, 1) * 1.6).clip(0, 0.9)[..., None]
        return png(sung), png(cleaned + red * (_RED - cleaned))


def png(pixels: np.ndarray) -> str:
    """A picture as a data URI (PNG, ISO/IEC 15948).

    Parameters
    ----------
    pixels : ``(rows, columns, 3)``, from 0 to 255.
    """
    rows, columns, _ = pixels.shape
    data = np.zeros((rows, 1 + 3 * columns), np.uint8)
    data[:, 1:] = np.clip(np.round(pixels), 0, 255).astype(np.uint8).reshape(rows, -1)

    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    head = struct.pack(">IIBBBBB", columns, rows, 8, 2, 0, 0, 0)
    png = chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(data.tobytes(), 9)) + chunk(b"IEND", b"")
    return "data:image/png;base64," + base64.b64encode(b"\x89PNG\r\n\x1a\n" + png).decode()
