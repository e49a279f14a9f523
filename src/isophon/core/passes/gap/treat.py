"""Gaps turned down, taken out or filled with room tone, see :mod:`isophon.core.passes.fades`.

What is kept beside a word is kept beside words alone: a gap closes right beside a breath that stays, and is one hole
with a breath that goes.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from isophon.core.passes.fades import Fade, fade_of, room_then, room_under
from isophon.core.passes.gap.mark import GapMark, without
from isophon.core.passes.gap.pause import breaths_of, staying
from isophon.core.passes.gap.settings import change_alone

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_KEPT_S = 0.01  # shorter remains are left to what is beside them


def gap_fades(part: Part) -> Iterator[Fade]:
    """What is done to the gaps of a part."""
    settings, room, breaths = part.gap, room_under(part) if part.gap.how != "silence" else (), breaths_of(part)
    under_db = settings.down_db if settings.how == "turn down" else 0.0
    edges, end_s = (settings.closes_ms, settings.opens_ms), part.source.duration - 1e-3
    for mark, change in part.changes_of(GapMark):
        start, end = mark.span
        start += 0.0 if start <= 0 else settings.after_ms / 1000
        end -= 0.0 if end >= end_s else settings.before_ms / 1000
        own = bool(change_alone(mark, settings, breaths))
        gone = () if mark.hand.drawn else tuple((b.start, b.end) for b in breaths.inside(mark) if b.goes)
        for first, last in without((start, end), (*staying(mark, breaths), *gone)):
            beside = any(first == b for _, b in gone), any(last == a for a, _ in gone)
            if last - first > _KEPT_S or any(beside):
                under = room_then(part, room, mark) if own else ()
                # a breath's soft ends reach into the room beside it
                closes, opens = (max(edges) if near else edge for edge, near in zip(edges, beside, strict=True))
                yield from fade_of(part, mark, (first, last), change, (closes, opens), under, under_db, leads=True)
