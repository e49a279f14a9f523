"""The mark of a band."""

from __future__ import annotations

import msgspec

from isophon.core.marks import Mark
from isophon.core.ranges import Name


class BandMark(Mark, frozen=True, tag="band"):
    """A resonance, or what a hand made: ``shape``: ``always`` or ``loud`` as found, else the shape of its filter."""

    shape: Name = msgspec.field(default="", name="sound")
