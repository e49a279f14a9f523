"""The settings of the Breaths pass, and what they make of a mark."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.marks import GONE_DB

DRAWN_S = (0.03, 3.0)  # shortest and longest that can be drawn


class BreathSettings(msgspec.Struct, frozen=True):
    """What the Breaths pass does where no hand decided.

    ``ceiling_db``: the stand-out over the voice that is let through.
    ``limit_db``: the deepest change; −36 takes a breath out whole. ``fill``:
    whether the room goes on underneath. ``fade_ms``: the length of the fades.
    ``sure``: marks of a lower confidence are left.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=-60.0, le=0.0)] = -32.0
    limit_db: Annotated[float, msgspec.Meta(ge=GONE_DB, le=0.0)] = -6.0
    fill: bool = True
    fade_ms: Annotated[float, msgspec.Meta(ge=2.0, le=100.0)] = 20.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5


_STACK = BreathSettings(ceiling_db=-60.0, limit_db=GONE_DB, fill=False)  # the stack breathes once: common practice
_OF_ROLE = {"double": _STACK, "harmony": _STACK}


def role_default(role: str) -> BreathSettings:
    """The settings that a part of a role starts with."""
    return _OF_ROLE.get(role, BreathSettings())
