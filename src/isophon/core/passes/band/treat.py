"""Bands cut or lifted: what is done to a part, see :mod:`isophon.core.passes.filters`."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from isophon.core.audio.bell import Bell, response_db
from isophon.core.marks import Mark
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.band.settings import bell_of
from isophon.core.passes.filters import BandFilter

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_EDGE_S = 0.03  # s: how long a cut takes to come and go
_WHOLE_S = 0.05  # what misses no more than this at either end is the whole take


def treatments(part: Part) -> Iterator[BandFilter]:
    """What is done to a part: all that goes over the whole take at once, and each word's."""
    rate, frames = part.source.sample_rate, part.source.frames
    everywhere: list[Bell] = []
    for mark, change in part.changes_of(BandMark):
        bell = bell_of(mark, change)
        if bell.freq_hz >= 0.49 * rate or (mark.is_by_level and change < 0):
            continue
        if is_whole(mark, part.source.duration):
            everywhere.append(bell)
        else:
            start, end = mark.span
            edge = round(_EDGE_S * rate)
            first, last = max(0, round(start * rate) - edge), min(frames, round(end * rate) + edge)
            yield BandFilter(first, last, (bell,), edge)
    if everywhere:
        yield BandFilter(0, frames, tuple(sorted(everywhere, key=lambda b: (b.freq_hz, b.q, b.gain_db, b.shape))))


def response_of(part: Part, freqs: np.ndarray) -> np.ndarray:
    """What the bands that are cut throughout do.

    Parameters
    ----------
    part : a part.
    freqs : ``(n,)``, Hz.

    Returns
    -------
    ``(n,)``, dB.
    """
    bells = tuple(bell for cut in treatments(part) if not cut.edge for bell in cut.bells)
    return response_db(bells, np.maximum(freqs, 1.0))


def is_whole(mark: Mark, duration: float) -> bool:
    """Whether a mark's span is the whole take."""
    start, end = mark.span
    return start <= _WHOLE_S and end >= duration - _WHOLE_S
