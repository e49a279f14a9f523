"""The settings of hum."""

from __future__ import annotations

from typing import Annotated

import msgspec


class HumSettings(msgspec.Struct, frozen=True):
    """``on``: subtract the hum that was found; ``top_hz``: partials above are left."""

    on: bool = True
    top_hz: Annotated[float, msgspec.Meta(ge=60.0, le=6_000.0)] = 6_000.0


def role_default(_role: str) -> HumSettings:
    """The settings that a part of a role starts with."""
    return HumSettings()
