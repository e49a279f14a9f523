"""The stack as one: the marks of all parts that sound at the same moment of the song, as columns."""

from __future__ import annotations

from typing import NamedTuple

from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.session.edits import set_changes
from isophon.core.session.model import Session

_APART_S = 0.12  # as far apart as the same sound of several singers comes


class Held(NamedTuple):
    """A mark of a column: the id of its part, whether that is a lead, the mark, and where it lies in the song, s."""

    part_id: str
    is_lead: bool
    mark: Mark
    start: float
    end: float


class Column(NamedTuple):
    """Marks of several parts that sound at once, one a part, in the order of the parts."""

    marks: tuple[Held, ...]

    @property
    def start(self) -> float:
        """Where the first begins, s of the song."""
        return min(one.start for one in self.marks)

    @property
    def end(self) -> float:
        """Where the last ends, s of the song."""
        return max(one.end for one in self.marks)

    @property
    def with_lead(self) -> bool:
        """Whether a lead has one here too."""
        return any(one.is_lead for one in self.marks)


def columns(session: Session, kind: str) -> list[Column]:
    """All marks of a kind, those that sound at once together, in order of time."""
    order = {part.id: i for i, part in enumerate(session.parts)}
    rows = [Held(part.id, part.role == "lead", mark, *(t + part.offset_s for t in mark.span))
            for part in session.parts for mark in part.of_kind(kind)]  # fmt: skip
    found: list[list[Held]] = []
    for row in sorted(rows, key=lambda one: one.start):
        near = (group for group in reversed(found[-len(order) :]) if _belongs(group, row))
        group = next(near, None)
        if group is None:
            found.append([row])
        else:
            group.append(row)
    return [Column(tuple(sorted(group, key=lambda one: order[one.part_id]))) for group in found]


def _belongs(group: list[Held], row: Held) -> bool:
    """Whether a mark sounds with a group that has none of its part yet: starts or ends together, or lies inside."""
    if any(one.part_id == row.part_id for one in group):
        return False
    first = group[0]
    together = abs(first.start - row.start) <= _APART_S or abs(first.end - row.end) <= _APART_S
    inside = min(first.end, row.end) - max(first.start, row.start) >= 0.5 * min(
        first.end - first.start, row.end - row.start
    )
    return row.start <= max(one.end for one in group) + _APART_S and (together or inside)


def to_level(session: Session, column: Column, kind: str, level: float) -> Session:
    """Bring all of a column that stands higher down to a level, in the unit of its kind, and let the rest be."""
    height = BY_NAME[kind].decision.height
    for one in column.marks:
        session = set_changes(session, one.part_id, {one.mark.id: min(0.0, level - height(one.mark))})
    return session
