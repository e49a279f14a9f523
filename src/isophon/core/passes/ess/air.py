"""Air: top given back after the esses are tamed, and none of it in the esses.

A high shelf (the analog prototype of the W3C Audio EQ Cookbook, minimum phase) over the take, faded out around every
ess: these stay under their ceiling by construction.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from isophon.core.audio.bell import FILTER_S, HIGH_SHELF, Bell
from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.filters import passing
from isophon.core.passes.stage import At, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_EDGE_S = 0.03  # s: how long the air takes to leave an ess alone
_LEAST_DB = 0.05  # dB: less is nothing


class AirLift(msgspec.Struct, frozen=True):
    """A shelf over frames ``first`` to ``last``, but for ``spans`` (frames), with fades of ``edge`` frames."""

    first: int
    last: int
    shelf: Bell
    spans: tuple[tuple[int, int], ...]
    edge: int


def treatments(part: Part) -> Iterator[AirLift]:
    """What is done to a part."""
    if part.ess.air_db < _LEAST_DB:
        return
    rate = part.source.sample_rate
    spans = tuple((round(m.span[0] * rate), round(m.span[1] * rate)) for m in part.of(EssMark))
    shelf = Bell(min(part.ess.air_hz, 0.4 * rate), 1.0, part.ess.air_db, HIGH_SHELF)
    yield AirLift(0, part.source.frames, shelf, spans, round(_EDGE_S * rate))


def _apply(at: At, mine: Sequence[AirLift]) -> np.ndarray:
    lift, through = mine[0], passing(at)
    lifted, plain = through((lift.shelf,)), through(())
    return (plain + _outside(lift, at.start, at.frames) * (lifted - plain)).astype(np.float32)


def _outside(lift: AirLift, start: int, frames: int) -> np.ndarray:
    """1 outside of the esses, 0 in them, with raised-cosine fades before and after, ``(frames,)``."""
    away = np.full(frames, float(lift.edge))
    place = np.arange(start, start + frames)
    for first, last in lift.spans:
        if first - lift.edge < start + frames and last + lift.edge > start:
            away = np.minimum(away, np.maximum(0, np.maximum(first - place, place - last)))
    return raised_cosine(np.clip(away / lift.edge, 0, 1))


STAGE = Stage(
    "air", (AirLift,), _apply, ("ess by rule",), reach=lambda rate: round(FILTER_S * rate) + 1, fixed_blocks=True
)
