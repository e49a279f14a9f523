"""The settings of the Breaths pass, and what they make of a mark."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec.structs import replace

from isophon.core.marks import GONE_DB
from isophon.core.passes import ceiling
from isophon.core.passes.breath.mark import BreathMark

NOTHING_THROUGH_DB = -60.0  # the lowest ceiling
DRAWN_S = (0.03, 3.0)  # shortest and longest that can be drawn

_More = Annotated[float, msgspec.Meta(ge=GONE_DB, le=-GONE_DB)]


class BreathSettings(msgspec.Struct, frozen=True):
    """What the Breaths pass does where no hand decided.

    ``ceiling_db``: the stand-out over the voice that is let through; at −60 nothing is.
    ``limit_db``: the deepest change; −36 takes a breath out completely. ``fill``:
    whether room tone goes on underneath. ``fade_ms``: the length of the fades.
    ``sure``: marks of a lower confidence are left. ``heads_db``, ``between_db``, ``ends_db``: by how much ceiling and
    deepest change lie higher (or lower, if negative) for breaths at the head of a phrase, between its words, and at
    its end.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=NOTHING_THROUGH_DB, le=0.0)] = -32.0
    limit_db: Annotated[float, msgspec.Meta(ge=GONE_DB, le=0.0)] = -6.0
    fill: bool = True
    fade_ms: Annotated[float, msgspec.Meta(ge=2.0, le=100.0)] = 20.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5
    heads_db: _More = 0.0
    between_db: _More = 0.0
    ends_db: _More = 0.0

    def at(self, mark: BreathMark) -> BreathSettings:
        """The settings for a breath in its place."""
        more = {"head": self.heads_db, "between": self.between_db, "end": self.ends_db}[mark.place]
        if not more:
            return self
        ceiling_db = min(0.0, max(NOTHING_THROUGH_DB, self.ceiling_db + more))
        return replace(self, ceiling_db=ceiling_db, limit_db=min(0.0, max(GONE_DB, self.limit_db + more)))


_STACK = BreathSettings(ceiling_db=-60.0, limit_db=GONE_DB, fill=False)  # the stack breathes once: common practice
_OF_ROLE = {"double": _STACK, "harmony": _STACK}


def role_default(role: str) -> BreathSettings:
    """The settings that a part of a role starts with."""
    return _OF_ROLE.get(role, BreathSettings())


def change_of(mark: BreathMark, settings: BreathSettings, _context: object = None) -> float:
    """What is done to a breath, in dB ≤ 0; −36 and less: taken out completely."""
    settings = settings.at(mark)
    change = ceiling.change_of(mark, settings)
    nothing_through = settings.ceiling_db <= NOTHING_THROUGH_DB and mark.hand.change_db is None
    return settings.limit_db if change and nothing_through else change
