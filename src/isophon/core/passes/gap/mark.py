"""The mark of a gap."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Self

import msgspec

from isophon.core.marks import Mark, spans_later
from isophon.core.ranges import Level, Seconds

_MOST_BREATHS = 2_000  # no pause has so many

Spans = tuple[tuple[float, float], ...]


class GapMark(Mark, frozen=True, tag="gap"):
    """A pause: all that lies between two words.

    ``over_room_db``: how far its loudest moment stands over the room, breaths aside. ``breaths``: those found in it,
    (start, end) in s.
    """

    over_room_db: Level = 0.0
    breaths: Annotated[tuple[tuple[Seconds, Seconds], ...], msgspec.Meta(max_length=_MOST_BREATHS)] = ()

    def later(self, by_s: float) -> Self:
        """The same with all of its times later by ``by_s`` seconds."""
        return msgspec.structs.replace(super().later(by_s), breaths=spans_later(self.breaths, by_s))

    @property
    def dead_air(self) -> Spans:
        """What of it is no breath, (start, end) in s."""
        return without((self.start, self.end), self.breaths)


def without(span: tuple[float, float], others: Iterable[tuple[float, float]]) -> Spans:
    """What is left of a span without others."""
    left, (at, end) = [], span
    for first, last in sorted(other for other in others if other[1] > other[0]):
        if first > at:
            left.append((at, min(first, end)))
        at = max(at, last)
        if at >= end:
            break
    if at < end:
        left.append((at, end))
    return tuple(piece for piece in left if piece[1] > piece[0])
