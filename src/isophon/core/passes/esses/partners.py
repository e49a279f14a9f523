"""Which ess of the lead an ess of a stack part meets: the nearest in time that no other is nearer to."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from isophon.core.marks import Mark
from isophon.core.passes.esses.settings import LEFT_ALONE

_REACH_S = 0.25  # backing words come early or late by up to this (common practice)
_LENGTH_WEIGHT = 0.3


def partnered(marks: Sequence[Mark], lead: Sequence[Mark], later_s: float) -> tuple[Mark, ...]:
    """Marks of a stack part with the lead's esses that they meet; ``later_s``: how much later the part starts.

    Starts and ends are both asked, so that an S is not taken for the one that follows it; each is met once.
    """
    esses = [m for m in lead if m.kind == "ess" and m.sound not in LEFT_ALONE]
    mine = [m for m in marks if m.kind == "ess" and m.sound not in LEFT_ALONE]
    pairs = sorted(
        (cost, i, j)
        for i, mark in enumerate(mine)
        for j, other in enumerate(esses)
        if (cost := _apart(mark, other, later_s)) is not None
    )
    met: dict[str, Mark] = {}
    taken: set[int] = set()
    for _, i, j in pairs:
        if mine[i].id not in met and j not in taken:
            met[mine[i].id] = esses[j]
            taken.add(j)
    return tuple(_with(m, met.get(m.id), later_s) if m.kind == "ess" else m for m in marks)


def _apart(mark: Mark, other: Mark, later_s: float) -> float | None:
    start, end = abs(mark.start + later_s - other.start), abs(mark.end + later_s - other.end)
    nearest = min(start, end)
    return (
        nearest + _LENGTH_WEIGHT * max(start, end) if nearest <= _REACH_S and max(start, end) <= 2 * _REACH_S else None
    )


def _with(mark: Mark, other: Mark | None, later_s: float) -> Mark:
    if other is None:
        return replace(mark, partner_s=None, partner_db=0.0)
    return replace(mark, partner_s=round(other.start - later_s, 4), partner_db=other.standout_db)
