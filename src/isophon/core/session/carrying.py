"""Passages carried on, as edits of a session."""

from __future__ import annotations

from collections.abc import Collection

from msgspec.structs import replace

from isophon.core.errors import CallError
from isophon.core.marks import Hand, Mark, mark_id
from isophon.core.passes import carry
from isophon.core.session.edits import check_length, with_parts
from isophon.core.session.model import Part, Session

_KIND = carry.KIND.name


def carry_on(session: Session, part_ids: Collection[str], start: float, end: float, at: float) -> Session:
    """Let what parts have from ``start`` to ``end`` stand ``at`` another place as well; seconds of the song.

    CallError where both overlap, or where the passage is too short or too long. Of a part that does not reach so
    far only what it has is carried; a copy that stood at the place before goes.
    """
    check_length(_KIND, end - start)
    if abs(at - start) < end - start:
        raise CallError("the passage and its place overlap")

    def change(part: Part) -> Part:
        first, here = start - part.offset_s, at - part.offset_s
        length = min(end - start, part.source.duration - max(first, here))
        skipped = max(0.0, -first, -here)
        if length - skipped <= 0:
            return part
        first, here, length = first + skipped, here + skipped, length - skipped
        kept = tuple(m for m in part.marks if m.kind != _KIND or m.end <= here or m.start >= here + length)
        name = mark_id(_KIND, here, {m.id for m in kept})
        mark = Mark(name, _KIND, round(here, 4), round(here + length, 4), 0.0, 0.0, 0.0, 0.0, 1.0,
                    hand=Hand(drawn=True, agreed=True), partner_s=round(first, 4))  # fmt: skip
        return replace(part, marks=tuple(sorted((*kept, mark), key=lambda m: (m.start, m.id))))

    return with_parts(session, part_ids, change)


def take_back(session: Session, part_ids: Collection[str], at: float) -> Session:
    """Let parts have at a second of the song what was sung there."""

    def change(part: Part) -> Part:
        here = at - part.offset_s
        kept = tuple(m for m in part.marks if m.kind != _KIND or not m.start - 0.01 <= here < m.end)
        return part if len(kept) == len(part.marks) else replace(part, marks=kept)

    return with_parts(session, part_ids, change)


def carried(session: Session, part_ids: Collection[str]) -> list[tuple[float, float]]:
    """Where passages stand that were carried there, and where they come from; seconds of the song, no place twice."""
    found = set()
    for part in (p for p in session.parts if p.id in part_ids):
        for mark in part.of_kind(_KIND):
            if mark.partner_s is not None:
                found.add((round(mark.start + part.offset_s, 2), round(mark.partner_s + part.offset_s, 2)))
    return sorted(found)
