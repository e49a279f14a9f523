"""The settings of the Pops pass, and what they make of a mark."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.marks import Mark

GONE_DB = -36.0


class PopSettings(msgspec.Struct, frozen=True):
    """What the Pops pass does where no hand decided.

    ``ceiling_db``: the stand-out over the voice that is let through.
    ``limit_db``: the deepest change; −36 takes the burst out whole. ``edge_ms``:
    how long the change takes to come and go. ``sure``: marks of a lower
    confidence are left.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=-60.0, le=24.0)] = -20.0
    limit_db: Annotated[float, msgspec.Meta(ge=GONE_DB, le=0.0)] = -30.0
    edge_ms: Annotated[float, msgspec.Meta(ge=5.0, le=80.0)] = 20.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5


def role_default(role: str) -> PopSettings:
    """The settings that a part of a role starts with."""
    return PopSettings()


def change_of(mark: Mark, settings: PopSettings) -> float:
    """What is done to a pop's burst, in dB ≤ 0; −36 and less: taken out whole."""
    hand = mark.hand
    if hand.leave:
        return 0.0
    if hand.change_db is not None:
        return hand.change_db
    if mark.confidence < settings.sure and not hand.drawn:
        return 0.0
    return max(settings.limit_db, min(0.0, settings.ceiling_db - mark.standout_db))
