"""Breaths turned down or taken out, between smooth edges.

See :mod:`isophon.core.passes.fades`, whose stage does it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from isophon.core.passes.fades import Fade, fade_of, room_under


def treatments(part: Any) -> Iterator[Fade]:
    """What is done to the breaths of a part."""
    settings, room = part.breath, room_under(part) if part.breath.fill else ()
    for mark, change in part.changed("breath"):
        start, end = mark.span
        yield from fade_of(part, start, end, change, (settings.fade_ms, settings.fade_ms), room)
