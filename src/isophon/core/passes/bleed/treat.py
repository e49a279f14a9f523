"""A leak taken out: what was predicted, and as much as wished of what the prediction missed."""

from __future__ import annotations

import numpy as np

from isophon.core.passes.bleed.settings import BleedCut

Arrays = tuple[np.ndarray, np.ndarray]


def apply(block: np.ndarray, start: int, arrays: Arrays, cut: BleedCut) -> np.ndarray:
    """``block`` (the take's frames from ``start`` on, ``(channels, n)``) treated; ``arrays``: leak and rest."""
    out = without(block, start, arrays, cut.much, cut.careful)
    at = np.arange(start, start + block.shape[1])
    for first, last in cut.left:
        if first - cut.edge < at[-1] and last + cut.edge > at[0]:
            inside = np.clip(np.minimum(at - first, last - at) / cut.edge + 1, 0, 1).astype(np.float32)
            out = np.where(inside < 1, out + inside * (block - out), block)
    return out


def without(block: np.ndarray, start: int, arrays: Arrays, much: float, careful: float) -> np.ndarray:
    """The same for ``much`` and ``careful`` of the settings."""
    out = block.copy()
    first, last = max(0, start), min(arrays[0].shape[1], start + block.shape[1])
    if last > first:
        gone = arrays[0][:, first:last] + np.float32(1 - careful) * arrays[1][:, first:last]
        out[:, first - start : last - start] -= np.float32(much) * gone
    return out
