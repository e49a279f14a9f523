"""The mark of a tick."""

from __future__ import annotations

from isophon.core.marks import Mark
from isophon.core.ranges import Name


class TickMark(Mark, frozen=True, tag="tick"):
    """A mouth click, or damage. ``sound``: ``clipped`` or ``dropout``, '' for a click; ``voiced``: sung around it."""

    sound: Name = ""
    voiced: bool = False
