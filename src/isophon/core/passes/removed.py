"""What the treatment of a mark takes away and what it leaves, frame by frame, as far as a survey tells it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from isophon.core.marks import Mark
from isophon.core.passes.fades import gain_of
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_BESIDE = 4  # frames


def frames_of_mark(mark: Mark, survey: Survey) -> slice:
    """The frames of the survey in which a mark lies, one at least."""
    start, end = mark.span
    first = survey.frame(start)
    return slice(first, max(first + 1, survey.frame(end)))


def by_change(part: Part, mark: Mark, survey: Survey) -> tuple[np.ndarray, np.ndarray]:
    """What a change in dB takes away of a mark's band, or adds, and what stays.

    Their sum is the louder of as sung and cleaned, so that the first is at its threshold where the change is just
    noticed.

    Parameters
    ----------
    part : a part.
    mark : one of its marks.
    survey : what is measured of it.

    Returns
    -------
    Power, ``(frames, bands)`` each.
    """
    power = survey.bands[frames_of_mark(mark, survey)].astype(np.float64)
    low, high = mark.band
    inside = survey.band_slice(low, np.inf if high is None else high)
    gain, taken, left = gain_of(part.change(mark)), np.zeros_like(power), power.copy()
    taken[:, inside] = power[:, inside] * abs(1 - gain**2)
    left[:, inside] *= min(1.0, gain**2)
    return taken, left


def what_stands_out(part: Part, mark: Mark, survey: Survey) -> tuple[np.ndarray, np.ndarray]:
    """What a short sound adds to what is beside it, where that is taken away, and the rest.

    Parameters and results are those of :func:`by_change`.
    """
    frames = frames_of_mark(mark, survey)
    power = survey.bands[frames].astype(np.float64)
    before = survey.bands[max(0, frames.start - _BESIDE) : max(1, frames.start - 1)]
    after = survey.bands[frames.stop + 1 : frames.stop + _BESIDE]
    beside = np.concatenate([before, after]) if len(before) + len(after) else power
    taken = np.maximum(0, power - beside.mean(axis=0)) * (part.change(mark) < 0)
    return taken, power - taken
