"""A pause as one: its dead air, the breaths that stay in it, and those that go."""

from __future__ import annotations

from bisect import bisect_left
from operator import attrgetter
from typing import TYPE_CHECKING, Any, NamedTuple

from isophon.core.marks import GONE_DB
from isophon.core.passes.gap.mark import GapMark, Spans, without

if TYPE_CHECKING:
    from isophon.core.session.model import Part


_LEAST_ROW_S = 0.1  # s: what is left of a pause beside its breaths is a row of its own from this length on


class Breath(NamedTuple):
    """A breath of a part: where it was found to start, its span in s, and whether nothing of it is left."""

    found: float
    start: float
    end: float
    goes: bool


class Breaths(NamedTuple):
    """The breaths of a part in order of time; ``leave_a_hole``: whether no room goes on under those that go.

    ``starts``: theirs, and ``longest``: the length of the longest, s, to find those in a pause by.
    """

    each: tuple[Breath, ...] = ()
    leave_a_hole: bool = False
    starts: tuple[float, ...] = ()
    longest: float = 0.0

    def inside(self, mark: GapMark) -> list[Breath]:
        """Those in a pause."""
        span = mark.span
        start, end = min(mark.start, span[0]), max(mark.end, span[1])
        near = self.each[bisect_left(self.starts, start - self.longest) : bisect_left(self.starts, end)]
        return [breath for breath in near if breath.end > start]


def breaths_of(part: Part) -> Breaths:
    """The breaths of a part, and what is done to them."""
    changes = {mark.id: change for mark, change in part.changed("breath")}
    found = (Breath(mark.start, *mark.span, changes.get(mark.id, 0.0) <= GONE_DB) for mark in part.of_kind("breath"))
    each = sorted(found, key=attrgetter("start"))
    longest = max((breath.end - breath.start for breath in each), default=0.0)
    return Breaths(tuple(each), not part.breath.fill, tuple(breath.start for breath in each), longest)


def staying(mark: GapMark, breaths: Breaths) -> Spans:
    """The breaths in a pause that sound; where a hand drew the gap it covers all that is in it."""
    if mark.hand.drawn:
        return ()
    inside = breaths.inside(mark)
    known = {breath.found for breath in inside}
    unknown = (span for span in mark.breaths if span[0] not in known)
    return tuple(sorted([*unknown, *((b.start, b.end) for b in inside if not b.goes)]))


def dead_air(mark: GapMark, breaths: Breaths) -> Spans:
    """What of a pause is treated as one: all of it but the breaths that stay, (start, end) in s."""
    return without(mark.span, staying(mark, breaths))


def goes_along(mark: GapMark, breaths: Breaths) -> bool:
    """Whether a breath in it leaves a hole, so that the room beside that would be left as an island."""
    return breaths.leave_a_hole and any(breath.goes for breath in breaths.inside(mark))


def rows(part: Part, mark: GapMark) -> list[dict[str, Any]]:
    """What ``find --json`` tells of a pause: its dead air, a row for each stretch, with the breaths that go in it."""
    breaths = breaths_of(part)
    spans = [(start, end) for start, end in dead_air(mark, breaths) if end - start >= _LEAST_ROW_S]
    inside = breaths.inside(mark)
    return [{"start_s": start, "end_s": end, "breaths": [b.start for b in inside if b.start < end and b.end > start]}
            for start, end in spans]  # fmt: skip
