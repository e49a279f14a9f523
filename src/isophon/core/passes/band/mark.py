"""The mark of a band."""

from __future__ import annotations

from typing import Literal

import msgspec

from isophon.core.marks import Mark
from isophon.core.ranges import Level, Name

ALWAYS, LOUD = "always", "loud"


class BandMark(Mark, frozen=True, tag="band"):
    """A resonance, or what a hand made.

    ``shape``: ``always`` or ``loud`` as found, else the shape of its filter. ``by``: whether it is cut always or by
    level; ``usual_db``: by level, how far it stands over the bands beside it in this singer's other words.
    """

    shape: Name = msgspec.field(default="", name="sound")
    by: Literal["always", "level"] = "always"
    usual_db: Level = 0.0

    @property
    def is_by_level(self) -> bool:
        """Whether it is cut only while it stands over."""
        return self.by == "level"
