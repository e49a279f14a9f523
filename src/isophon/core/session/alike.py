"""Which marks sound most like one: by their spectra and lengths."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from isophon.core.marks import Mark
from isophon.core.survey import Survey

_LENGTH_DB = 6.0  # what twice the length weighs


def alike(survey: Survey, mark: Mark, others: Sequence[Mark]) -> list[str]:
    """The names of other marks, the most alike first."""
    return [others[i].id for i in np.argsort(distances(survey, mark, others), kind="stable")]


def distances(survey: Survey, mark: Mark, others: Sequence[Mark]) -> list[float]:
    """How unlike others are: the distance of third-octave levels in dB, and of lengths."""
    mine = _features(survey, mark)
    return [float(np.sqrt(np.mean(np.square(_features(survey, other) - mine)))) for other in others]


def _features(survey: Survey, mark: Mark) -> np.ndarray:
    """The levels of a mark's bands against all of it, and its length, in dB."""
    start, end = mark.span
    bands = survey.bands[survey.frame(start) : survey.frame(end) + 1].mean(axis=0, dtype=np.float64)
    level = 10 * np.log10(bands + 1e-14)
    return np.append(level - level.max(), _LENGTH_DB * np.sqrt(len(level)) * np.log2(max(end - start, 1e-3)))
