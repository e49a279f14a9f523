"""What cleaning does to the picture of a take: what stays, what goes, and what is added, level by level.

Pictures are as :mod:`.pictures` makes them: uint8 ``(rows, columns)``, half a dB a step, the highest row at the top.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import NamedTuple

import numpy as np

from isophon.core.passes import KINDS
from isophon.core.session.model import Part
from isophon.core.takes.pictures import Axis

# the kinds that change when something is heard: a picture as sung and one after them cannot be compared
MOVING = tuple(kind.name for kind in KINDS if kind.cure.maps or any(stage.remote_input for stage in kind.cure.stages))

LEAST_DB = 3.0  # smaller differences of two pictures do not count
MOST = 4_000  # marks of a kind, or treatments in view, that a picture is made of
_HALF_DB = 2  # steps of a picture in a dB


class Change(NamedTuple):
    """A change of ``db`` from ``start`` to ``end`` s between two frequencies in Hz; ``high_hz`` None: up to the top."""

    start: float
    end: float
    low_hz: float
    high_hz: float | None
    db: float


def changes_of(part: Part, without: Collection[str]) -> list[Change]:
    """What is done to the marks of a part that have a place in time, but for those of some kinds.

    Kinds with very many marks are left out.
    """
    kinds = [kind for kind in KINDS if kind.mark and kind.reporter.in_time and kind.name not in without]
    return [
        Change(*mark.span, *kind.decision.works_in(mark), db)
        for kind in kinds
        if len(part.changed(kind.name)) <= MOST
        for mark, db in part.changed(kind.name)
    ]


def removed(sung: np.ndarray, cleaned: np.ndarray) -> np.ndarray:
    """The level of what goes, as a picture: that of as sung where it is 3 dB or more over cleaned, else 0.

    Parameters
    ----------
    sung, cleaned : uint8 ``(rows, columns)``.
    """
    gone = np.subtract(sung, cleaned, dtype=np.int16) >= _HALF_DB * LEAST_DB
    return sung * gone


def added(sung: np.ndarray, cleaned: np.ndarray) -> np.ndarray:
    """The level of what was not there, as a picture: that of cleaned where it is 3 dB or more over as sung, else 0.

    Parameters
    ----------
    sung, cleaned : uint8 ``(rows, columns)``.
    """
    return removed(cleaned, sung)


def estimated(shape: tuple[int, int], axis: Axis, view: tuple[float, float], changes: Iterable[Change]) -> np.ndarray:
    """What changes do to a picture, before anything is rendered.

    Parameters
    ----------
    shape : rows and columns.
    axis : its frequencies.
    view : from and to, s.
    changes : what is done.

    Returns
    -------
    int16 ``(rows, columns)``, half dB.
    """
    rows, columns = shape
    out = np.zeros(shape, np.int16)
    scale = columns / (view[1] - view[0])
    for change in changes:
        first, last = (round((t - view[0]) * scale) for t in (change.start, change.end))
        if last < 0 or first >= columns:
            continue
        high = axis.high if change.high_hz is None else change.high_hz
        top, bottom = (round(float(np.clip(axis.place(hz), 0, 1)) * rows) for hz in (high, change.low_hz))
        out[top : max(bottom, top + 1), max(0, first) : max(last, first + 1)] += round(_HALF_DB * change.db)
    return out


def changed_by(picture: np.ndarray, change: np.ndarray) -> np.ndarray:
    """A picture, uint8 ``(rows, columns)``, with an estimated change of its levels, int16 of the same shape."""
    return np.clip(picture.astype(np.int16) + change, 0, 255).astype(np.uint8)
