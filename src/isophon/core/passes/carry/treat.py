"""What stands elsewhere in the take, as it is handed over there, put over a span.

It is read from what all stages before have left, so that whatever is decided about the passage later is in its copies.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np

from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.carry.mark import PassageMark
from isophon.core.passes.stage import At, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part


class Carried(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last`` come from those at ``source``, with fades of ``edge`` frames inside both ends."""

    first: int
    last: int
    source: int
    edge: int


def treatments(part: Part) -> Iterator[Carried]:
    """What is done to a part; times are those of the song, as the passage is heard."""
    rate, frames = part.source.sample_rate, part.source.frames
    for mark, _ in part.changes_of(PassageMark):
        if mark.from_s is None:
            continue
        first, last = round(mark.start * rate), min(frames, round(mark.end * rate))
        source = round(mark.from_s * rate)
        if 0 <= first < last and source >= 0 and source + last - first <= frames:
            edge = min(round(part.carry.fade_ms / 1000 * rate), (last - first) // 2)
            yield Carried(first, last, source, max(1, edge))


def _remote_input(one: Carried, start: int, stop: int) -> tuple[int, int]:
    by = one.source - one.first
    return max(start, one.first) + by, min(stop, one.last) + by


def _apply(at: At, mine: Sequence[Carried]) -> np.ndarray:
    out = at.block().copy()
    for one in mine:
        first, last, here = at.within(one)
        place = np.arange(first, last)
        share = np.clip(np.minimum(place - one.first + 0.5, one.last - place - 0.5) / one.edge, 0, 1)
        share = raised_cosine(share).astype(np.float32)
        out[:, here] += share * (at.read(one.source + first - one.first, last - first) - out[:, here])
    return out


STAGE = Stage("carry", (Carried,), _apply, ("timing",), cache_input=True, remote_input=_remote_input)
