"""Which ess of the lead an ess of a stack part meets: the nearest in time that no other is nearer to."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence

from msgspec.structs import replace

from isophon.core.marks import Mark
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.settings import LEFT_ALONE

_REACH_S = 0.25  # backing words come early or late by up to this (common practice)
_FARTHEST_S = 2 * _REACH_S  # start and end both
_LENGTH_WEIGHT = 0.3  # how much a difference in length counts beside one in time


def partnered(marks: Sequence[Mark], lead: Sequence[Mark], later_s: float) -> tuple[Mark, ...]:
    """Marks of a stack part with the lead's esses that they meet; ``later_s``: how much later the part starts.

    Starts and ends are both asked, so that an S is not taken for the one that follows it; each is met once.
    """
    esses = sorted((m for m in lead if isinstance(m, EssMark) and m.sound not in LEFT_ALONE), key=lambda m: m.start)
    starts = [m.start for m in esses]
    mine = [m for m in marks if isinstance(m, EssMark) and m.sound not in LEFT_ALONE]
    pairs = []
    for i, mark in enumerate(mine):
        at = mark.start + later_s
        for j in range(bisect_left(starts, at - _FARTHEST_S), bisect_right(starts, at + _FARTHEST_S)):
            if (cost := _apart(mark, esses[j], later_s)) is not None:
                pairs.append((cost, i, j))
    met: dict[str, EssMark] = {}
    taken: set[int] = set()
    for _, i, j in sorted(pairs):
        if mine[i].id not in met and j not in taken:
            met[mine[i].id] = esses[j]
            taken.add(j)
    return tuple(_with(m, met.get(m.id), later_s) if isinstance(m, EssMark) else m for m in marks)


def _apart(mark: Mark, other: Mark, later_s: float) -> float | None:
    start, end = abs(mark.start + later_s - other.start), abs(mark.end + later_s - other.end)
    nearest = min(start, end)
    meet = nearest <= _REACH_S and max(start, end) <= _FARTHEST_S
    return nearest + _LENGTH_WEIGHT * max(start, end) if meet else None


def _with(mark: EssMark, other: EssMark | None, later_s: float) -> EssMark:
    met = (None, 0.0) if other is None else (round(other.start - later_s, 4), other.standout_db)
    return mark if met == (mark.partner_s, mark.partner_db) else replace(mark, partner_s=met[0], partner_db=met[1])
