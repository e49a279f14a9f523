"""Gaps turned down, taken out or filled with room tone, see :mod:`isophon.core.passes.fades`."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from isophon.core.passes.fades import Fade, fade_of, room_under
from isophon.core.passes.gap.mark import GapMark

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def gap_fades(part: Part) -> Iterator[Fade]:
    """What is done to the gaps of a part."""
    settings, room = part.gap, room_under(part) if part.gap.how == "room tone" else ()
    for mark, change in part.changes_of(GapMark):
        start, end = mark.span
        start += 0.0 if start <= 0 else settings.after_ms / 1000
        end -= 0.0 if end >= part.source.duration - 1e-3 else settings.before_ms / 1000
        yield from fade_of(part, start, end, change, (settings.closes_ms, settings.opens_ms), room)
