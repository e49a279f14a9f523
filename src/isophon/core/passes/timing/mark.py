"""The mark of a word."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Self

import msgspec
from msgspec.structs import force_setattr, replace

from isophon.core.marks import Hand, Mark, spans_later
from isophon.core.ranges import MOST_POINTS, Late, Seconds

Anchors = Annotated[tuple[tuple[Seconds, Seconds], ...], msgspec.Meta(max_length=MOST_POINTS)]


class WordMark(Mark, frozen=True, tag="timing"):
    """A word of the stack. Its change is how far it is moved, in ms.

    ``late_ms``: how much later than the lead it starts; ``anchors``: moments of it, and when the lead has the same, s
    of the part; ``lead_s``: when the lead starts it.
    """

    late_ms: Late = 0.0
    anchors: Anchors = ()
    lead_s: Seconds | None = msgspec.field(default=None, name="partner_s")

    def __post_init__(self) -> None:
        """Take over what older files hold in the fields for dB."""
        if self.standout_db:
            force_setattr(self, "late_ms", self.standout_db)
            force_setattr(self, "standout_db", 0.0)
        if self.hand.change_db is not None:
            force_setattr(self, "hand", replace(self.hand, moved_ms=self.hand.change_db, change_db=None))

    def later(self, by_s: float) -> Self:
        """The same with all of its times later by ``by_s`` seconds."""
        lead_s = None if self.lead_s is None else self.lead_s + by_s
        return replace(super().later(by_s), anchors=spans_later(self.anchors, by_s), lead_s=lead_s)

    def flaw(self) -> str:
        """What is wrong with its moments."""
        if any(b[0] <= a[0] for a, b in pairwise(self.anchors)):
            return "anchors: are not in order"
        wrong = any(b[0] <= a[0] or b[1] <= a[1] for a, b in pairwise(self.hand.anchors))
        return "hand.anchors: are not in order" if wrong else ""

    @property
    def by_hand(self) -> float | None:
        """How far a person moved it, ms."""
        return self.hand.moved_ms

    def changed(self, change: float | None) -> Hand:
        """What is decided once a person moves it by so many ms."""
        return replace(self.hand, moved_ms=change)
