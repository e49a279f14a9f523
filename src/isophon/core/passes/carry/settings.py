"""The settings of carrying on, and when a place is in force."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.marks import GONE_DB
from isophon.core.passes.carry.mark import PassageMark

DRAWN_S = (0.2, 600.0)  # s: the shortest and the longest passage


class CarrySettings(msgspec.Struct, frozen=True):
    """How passages are carried on; ``fade_ms``: how long what stands there goes over into what is carried."""

    fade_ms: Annotated[float, msgspec.Meta(ge=2.0, le=200.0)] = 30.0


def role_default(_role: str) -> CarrySettings:
    """The settings that a part of any role starts with."""
    return CarrySettings()


def change_of(mark: PassageMark, _settings: CarrySettings, _context: object = None) -> float:
    """What was sung at a place is gone where a passage is carried there; 0 where that was taken back."""
    return 0.0 if mark.hand.leave or mark.from_s is None else GONE_DB
