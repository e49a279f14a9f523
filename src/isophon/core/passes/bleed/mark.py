"""The mark of a hit of the leak."""

from __future__ import annotations

import msgspec

from isophon.core.marks import Mark
from isophon.core.ranges import Level


class HitMark(Mark, frozen=True, tag="bleed"):
    """A loud moment of what leaked. ``less_db``: how much softer it gets where all of the leak is taken out."""

    less_db: Level = msgspec.field(default=0.0, name="over_room_db")
