"""Band powers without the steady noise under them."""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from isophon.core.audio.loudness import db

_FLOOR_PERCENTILE = 20  # of each band over time, which is its noise
_OVERSUBTRACTION = 2.0  # times that is taken away (Berouti et al. 1979; from memory)
_LEAST_LEFT = 0.001  # of what was there that stays
_PIECE = 1 << 15  # frames worked on at once


class Floored:
    """Band powers less the steady noise that is always there (spectral subtraction, Berouti et al. 1979).

    The noise of a band is the level it stays under for a fifth of the take, so
    digital silence subtracts nothing. Worked out piece by piece: a long take has many frames.
    """

    def __init__(self, bands: np.ndarray) -> None:
        self._bands = bands
        columns = (np.percentile(np.ascontiguousarray(band), _FLOOR_PERCENTILE) for band in bands.T)
        self._floor = _OVERSUBTRACTION * np.array(list(columns), np.float32)

    def left(self, frames: slice, inside: slice) -> np.ndarray:
        """What is left in some frames and bands, ``(frames, bands)``, mean squares."""
        bands = self._bands[frames, inside]
        return np.maximum(bands - self._floor[inside], _LEAST_LEFT * bands)

    def sum(self, inside: slice) -> np.ndarray:
        """What is left in some bands together, ``(frames,)``, mean squares."""
        pieces = range(0, len(self._bands), _PIECE)
        return np.concatenate([self.left(slice(at, at + _PIECE), inside).sum(axis=1) for at in pieces])

    def crest(self, inside: slice, smooth: int) -> np.ndarray:
        """How far the strongest band stands over the median one.

        Parameters
        ----------
        inside : the bands.
        smooth : frames over which they are averaged.

        Returns
        -------
        ``(frames,)``, dB.
        """
        crests = []
        for at in range(0, len(self._bands), _PIECE):
            begin = max(0, at - smooth)
            left = self.left(slice(begin, at + _PIECE + smooth), inside)
            above = db(ndimage.uniform_filter1d(left, smooth, axis=0))[at - begin :][:_PIECE]
            crests.append(above.max(axis=1) - np.median(above, axis=1))
        return np.concatenate(crests)
