"""The mark of a passage that was carried on."""

from __future__ import annotations

from typing import Self

import msgspec

from isophon.core.marks import MOST_TEMPO, Mark
from isophon.core.ranges import Seconds


class PassageMark(Mark, frozen=True, tag="carry"):
    """A place where another passage of the part stands.

    ``from_s``: where that passage starts, s of the part; ``length_s``: how long it is there, None: as long as here.
    The place may reach past the end of the recording: the stem grows.
    """

    from_s: Seconds | None = msgspec.field(default=None, name="partner_s")
    length_s: Seconds | None = None

    def later(self, by_s: float) -> Self:
        """The same with all of its times later by ``by_s`` seconds."""
        from_s = None if self.from_s is None else self.from_s + by_s
        return msgspec.structs.replace(super().later(by_s), from_s=from_s)

    def flaw(self) -> str:
        """What is wrong with it, as ``field: what``; empty where nothing is."""
        here = self.end - self.start
        if self.length_s is None or here / MOST_TEMPO <= self.length_s <= here * MOST_TEMPO:
            return super().flaw()
        return "length_s: the passage would be stretched too far"
