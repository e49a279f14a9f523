"""Breaths turned down or taken out, between smooth edges.

See :mod:`isophon.core.passes.fades`, whose stage does it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from isophon.core.passes.breath.mark import BreathMark
from isophon.core.passes.fades import Fade, fade_of, room_then, room_under

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def treatments(part: Part) -> Iterator[Fade]:
    """What is done to the breaths of a part."""
    settings, room = part.breath, room_under(part) if part.breath.fill else ()
    for mark, change in part.changes_of(BreathMark):
        yield from fade_of(
            part, mark, mark.span, change, (settings.fade_ms, settings.fade_ms), room_then(part, room, mark)
        )
