"""A leak taken out: what was predicted, and as much as wished of what the prediction missed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from isophon.core.audio.leak import Removal
from isophon.core.passes.bleed.mark import HitMark
from isophon.core.passes.bleed.settings import BleedCut
from isophon.core.passes.stage import At, Sounds, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_EDGE_S = 0.005  # s: how long it takes to fade to a place that is left as recorded


def apply(block: np.ndarray, start: int, arrays: Sounds, cut: BleedCut) -> np.ndarray:
    """A span of a take without its leak.

    Parameters
    ----------
    block : ``(channels, n)``, the take's frames from ``start`` on.
    start : frame.
    arrays : leak and rest.
    cut : how much of each is removed, and where nothing is.

    Returns
    -------
    float32 ``(channels, n)``.
    """
    out = Removal(True, cut.much, cut.careful).apply(block, start, arrays)
    at = np.arange(start, start + block.shape[1])
    for first, last in cut.left:
        if first - cut.edge < at[-1] and last + cut.edge > at[0]:
            inside = np.clip(np.minimum(at - first, last - at) / cut.edge + 1, 0, 1).astype(np.float32)
            out = np.where(inside < 1, out + inside * (block - out), block)
    return out


def treatments(part: Part) -> Iterator[BleedCut]:
    """What is done to a part."""
    settings, leak, rate = part.bleed, part.leak, part.source.sample_rate
    if settings.on and leak is not None and leak.key and settings.much > 0:
        left = tuple((round(m.start * rate), round(m.end * rate)) for m in part.of(HitMark) if m.hand.leave)
        edge = round(_EDGE_S * rate)
        yield BleedCut(0, part.source.frames, leak.key, settings.much, settings.careful, left, edge)


def _apply(at: At, mine: Sequence[BleedCut]) -> np.ndarray:
    arrays = at.sounds(mine[0].key)
    return at.block() if arrays is None else apply(at.block(), at.start, arrays, mine[0])


STAGE = Stage("bleed", (BleedCut,), _apply, slow=True)
