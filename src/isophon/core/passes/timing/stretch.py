"""Stretches of a take moved unchanged, or made longer or shorter by splices."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import msgspec
import numpy as np

from isophon.core.passes.splicing import stretched
from isophon.core.passes.stage import At, Stage

REACH_S = 1.0  # s around a block that its stretched words may need


class Moved(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last`` come from ``length`` frames of the take from ``source`` on."""

    first: int
    last: int
    source: int
    length: int


def _apply(at: At, mine: Sequence[Moved]) -> np.ndarray:
    out = at.block().copy()
    for move in mine:
        first, last, here = at.within(move)
        if move.last - move.first == move.length:
            out[:, here] = at.read(move.source + first - move.first, last - first)
        else:
            around = round(0.1 * at.sample_rate)
            frames = move.last - move.first
            make = partial(stretched, at.read, move.source, move.length, frames, at.sample_rate)
            passage = at.keep(move, move.source - around, move.source + move.length + around, make)
            out[:, here] = passage[:, first - move.first : last - move.first]
    return out


STAGE = Stage(
    "timing",
    (Moved,),
    _apply,
    ("outline",),
    reach=lambda rate: round(REACH_S * rate),
    whole_span=True,
    cache_input=True,
)
