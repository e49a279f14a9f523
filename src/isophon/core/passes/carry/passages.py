"""Passages carried on: the marks of a part with one more or one less. Times are seconds of the song."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from isophon.core.errors import CallError
from isophon.core.marks import Hand, Mark, check_length, mark_id
from isophon.core.passes.carry.mark import PassageMark
from isophon.core.passes.carry.settings import DRAWN_S

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_KIND = "carry"
_SLACK_S = 0.01


def carried_on(part: Part, start: float, end: float, at: float) -> tuple[Mark, ...]:
    """The marks of a part once what it has from ``start`` to ``end`` stands ``at`` another place as well.

    CallError where both overlap, where the passage is too short or too long, or where the part ends too early for it.
    Of a part that has not all of the passage only what it has is carried; a copy that stood at the place before goes.
    """
    check_length(end - start, DRAWN_S)
    if abs(at - start) < end - start:
        raise CallError("the passage and its place overlap")
    first, here = start - part.offset_s, at - part.offset_s
    length = min(end - start, part.source.duration - first)
    if length > 0 and here + length > part.source.duration + _SLACK_S:
        ends = part.source.duration + part.offset_s
        raise CallError(f"{part.name} ends at {ends:.1f} s, and the passage would reach to {at + length:.1f} s")
    length = min(length, part.source.duration - here)
    skipped = max(0.0, -first, -here)
    if length - skipped <= 0:
        return part.marks
    first, here, length = first + skipped, here + skipped, length - skipped
    kept = tuple(m for m in part.marks if m.kind != _KIND or m.end <= here or m.start >= here + length)
    name = mark_id(_KIND, here, {m.id for m in kept})
    mark = PassageMark(name, round(here, 4), round(here + length, 4), 0.0, 0.0, 0.0, 0.0, 1.0,
                hand=Hand(drawn=True, agreed=True), from_s=round(first, 4))  # fmt: skip
    return tuple(sorted((*kept, mark), key=lambda m: (m.start, m.id)))


def taken_back(part: Part, at: float) -> tuple[Mark, ...]:
    """The marks of a part once it has at a second what was sung there."""
    here = at - part.offset_s
    return tuple(m for m in part.marks if m.kind != _KIND or not m.start - 0.01 <= here < m.end)


def passages(parts: Iterable[Any]) -> list[tuple[float, float]]:
    """Where passages stand that were carried there, and where they come from; no place twice."""
    found = set()
    for part in parts:
        for mark in part.of(PassageMark):
            if mark.from_s is not None:
                found.add((round(mark.start + part.offset_s, 2), round(mark.from_s + part.offset_s, 2)))
    return sorted(found)
