"""The subtraction of a take's hum."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from isophon.core.audio.hum import Hum, hum_of
from isophon.core.passes.stage import Stage, Still

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_LEFT_OF_IT = 0.03  # of the noise floor's power: hum cannot be estimated better than that


class HumCut(msgspec.Struct, frozen=True):
    """Subtraction of the partials up to ``top_hz`` over frames ``first`` to ``last`` (the whole take)."""

    first: int
    last: int
    hum: Hum
    top_hz: float


def treatments(part: Part) -> Iterator[HumCut]:
    """What is done to a part."""
    if part.hum.on and part.measured.hum is not None:
        yield HumCut(0, part.source.frames, part.measured.hum, part.hum.top_hz)


def apply(block: np.ndarray, start: int, cut: HumCut) -> np.ndarray:
    """A span of a take without the hum.

    Parameters
    ----------
    block : ``(channels, n)``, the take's frames from ``start`` on.
    start : frame.
    cut : the hum.

    Returns
    -------
    float32 ``(channels, n)``.
    """
    return block - hum_of(cut.hum, start, block.shape[1], cut.top_hz)


def _still(still: Still, mine: Sequence[HumCut]) -> None:
    before = still.power.copy()
    edges = still.survey.band_edges
    for cut in mine:
        for partial in cut.hum.partials:
            if edges[0] <= partial.freq_hz <= min(cut.top_hz, edges[-1]):
                still.power[:, np.searchsorted(edges, partial.freq_hz) - 1] -= 10 ** (partial.level_db / 10)
    # a mean partial may be more than what a frame holds; as much as beside the hum is left
    np.maximum(still.power, _LEFT_OF_IT * before, out=still.power)


STAGE = Stage(
    "hum", (HumCut,), lambda at, mine: apply(at.block(), at.start, mine[0]), ("tick",), still=_still, slow=True
)
