"""The mark of a passage that was carried on."""

from __future__ import annotations

import msgspec

from isophon.core.marks import Mark
from isophon.core.ranges import Seconds


class PassageMark(Mark, frozen=True, tag="carry"):
    """A place where another passage of the part stands. ``from_s``: where that one starts, s of the part."""

    from_s: Seconds | None = msgspec.field(default=None, name="partner_s")
