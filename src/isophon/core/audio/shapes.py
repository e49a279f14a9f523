"""Shapes that many treatments share: smooth edges, and a peak between samples."""

from __future__ import annotations

from typing import TypeVar

import numpy as np

Share = TypeVar("Share", float, np.ndarray)

_FLAT = 1e-9  # three points that bend less have no peak


def raised_cosine(share: Share) -> Share:
    """From 0 to 1 as a share goes from 0 to 1, level at both ends."""
    return 0.5 - 0.5 * np.cos(np.pi * share)


def between_samples(left: float, middle: float, right: float) -> float:
    """Where the turning point of the parabola through three values lies, in samples from the middle; 0 for a line."""
    bend = left - 2 * middle + right
    return float(0.5 * (left - right) / bend) if abs(bend) > _FLAT else 0.0
