"""The settings of the Pops pass; they make of a mark what those of the Breaths pass do."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.marks import GONE_DB

DRAWN_S = (0.01, 0.5)  # shortest and longest that can be drawn


class PopSettings(msgspec.Struct, frozen=True):
    """What the Pops pass does where no hand decided.

    ``ceiling_db``: the stand-out over the voice that is let through.
    ``limit_db``: the deepest change; −36 takes the burst out completely. ``edge_ms``:
    how long the change takes to come and go. ``sure``: marks of a lower
    confidence are left.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=-60.0, le=24.0)] = -30.0
    limit_db: Annotated[float, msgspec.Meta(ge=GONE_DB, le=0.0)] = -30.0
    edge_ms: Annotated[float, msgspec.Meta(ge=5.0, le=80.0)] = 20.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5


def role_default(_role: str) -> PopSettings:
    """The settings that a part of a role starts with."""
    return PopSettings()
