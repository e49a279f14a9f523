"""Passages carried on: the marks of a part with one more or one less. Times are seconds of the song."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from isophon.core.errors import CallError
from isophon.core.marks import Hand, Mark, check_apart, check_length, mark_id
from isophon.core.passes.carry.mark import PassageMark
from isophon.core.passes.carry.settings import DRAWN_S

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_KIND = "carry"
_SLACK_S = 0.01  # s: a place that ends so little after the recording ends with it


def carried_on(part: Part, start: float, end: float, at: float, tempo: float = 1.0) -> tuple[Mark, ...]:
    """The marks of a part once what it has from ``start`` to ``end`` stands ``at`` another place as well.

    ``tempo``: how many times as long it is there. It may reach past the end of the recording, by ten minutes at most.
    CallError where both overlap, or where the passage is too short, too long, or would be stretched too far. Of a part
    that has not all of the passage only what it has is carried; a copy that stood at the place before goes.
    """
    check_length(end - start, DRAWN_S)
    check_apart(start, end, at, tempo)
    first, here, duration = start - part.offset_s, at - part.offset_s, part.source.duration
    length = min(end - start, duration - first)
    past_end = here + length * tempo - duration
    if length > 0 and past_end > DRAWN_S[1]:
        ends = duration + part.offset_s
        raise CallError(f"{part.name} ends at {ends:.1f} s, more than ten minutes before the passage would end there")
    if 0 < past_end <= _SLACK_S:
        length = (duration - here) / tempo
    skipped = max(0.0, -first, -here / tempo)
    if length - skipped <= 0:
        return part.marks
    first, here, length = first + skipped, here + skipped * tempo, length - skipped
    stop = here + length * tempo
    others = tuple(m for m in part.marks if m.kind != _KIND or m.end <= here or m.start >= stop)
    name = mark_id(_KIND, here, {m.id for m in others})
    mark = PassageMark(name, round(here, 4), round(stop, 4), 0.0, 0.0, 0.0, 0.0, 1.0,
                       hand=Hand(drawn=True, agreed=True), from_s=round(first, 4),
                       length_s=None if tempo == 1.0 else round(length, 4))  # fmt: skip
    return tuple(sorted((*others, mark), key=lambda m: (m.start, m.id)))


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
