"""Long sounds through short filters, piece by piece, so that little of them is held twice."""

from __future__ import annotations

import numpy as np
from scipy import signal

from isophon.core.audio.threads import at_once

_PIECE = 1 << 18  # frames at once


def filtered(sound: np.ndarray, taps: np.ndarray, early: int = 0) -> np.ndarray:
    """A sound, with silence around it, through a filter.

    Parameters
    ----------
    sound : ``(n,)``.
    taps : ``(taps,)``.
    early : frames by which it comes sooner.

    Returns
    -------
    float32 ``(n,)``.
    """
    taps, reach = taps.astype(np.float32), len(taps) - 1
    out = np.empty(len(sound), np.float32)

    def fill(at: int) -> None:
        count = min(_PIECE, len(sound) - at)
        first, last = at + early - reach, at + early + count
        piece = sound[max(0, first) : max(0, last)]
        piece = np.pad(piece, (max(0, -first), last - max(0, first) - len(piece)))
        out[at : at + count] = signal.oaconvolve(piece, taps, "valid")

    at_once(fill, range(0, len(sound), _PIECE))
    return out
