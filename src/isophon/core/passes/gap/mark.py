"""The mark of a gap."""

from __future__ import annotations

from isophon.core.marks import Mark
from isophon.core.ranges import Level


class GapMark(Mark, frozen=True, tag="gap"):
    """Dead air. ``over_room_db``: how far its loudest moment stands over the room."""

    over_room_db: Level = 0.0
