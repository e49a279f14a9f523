"""The settings of the Ticks pass, and what they make of a mark."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.passes.tick.mark import TickMark

REPAIRED_DB = -36.0  # a tick is repaired completely or left
DRAWN_S = (0.0003, 0.03)  # shortest and longest that can be drawn; a prediction from 30 ms around carries no further
DAMAGE = ("clipped", "dropout")
_LONGEST_S = 0.07  # a place with clipped peaks in it may be longer than what is missing there


class TickSettings(msgspec.Struct, frozen=True):
    """What the Ticks pass does where no hand decided: a tick is repaired, never turned down.

    ``ceiling_db``: ticks that stand out less are left. ``sure``: marks of a lower
    confidence are left. ``mend``: repair clipped peaks and dropouts too.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=-80.0, le=24.0)] = -60.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5
    mend: bool = False


def role_default(_role: str) -> TickSettings:
    """The settings that a part of a role starts with."""
    return TickSettings()


def change_of(mark: TickMark, settings: TickSettings, _context: object = None) -> float:
    """−36 where a tick is repaired, 0 where it is left."""
    hand = mark.hand
    start, end = mark.span
    if hand.leave or end - start > _LONGEST_S:
        return 0.0
    if hand.change_db is not None:
        return REPAIRED_DB if hand.change_db < 0 else 0.0
    if mark.sound in DAMAGE:
        return REPAIRED_DB if settings.mend else 0.0
    if mark.confidence < settings.sure and not hand.drawn:
        return 0.0
    return REPAIRED_DB if mark.standout_db > settings.ceiling_db else 0.0
