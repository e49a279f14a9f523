"""The settings of the Spots pass, and what they make of a mark.

A spot's mark is a box in time and frequency; the whole band where ``low_hz`` and ``high_hz`` are 0. Every word is one,
as high as it stands out of its phrase; what a hand draws is one too.
"""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.marks import Mark

MOST_DB = 12.0  # dB: the loudest change by hand
DEEPEST_DB = -36.0  # and the deepest
DRAWN_S = (0.005, 600.0)  # s: the shortest and the longest box


class SpotSettings(msgspec.Struct, frozen=True):
    """What the Spots pass does where no hand decided.

    ``on``: whether words that stand out of their phrase come down; ``ceiling_db``: how far one may stand out;
    ``limit_db``: the deepest change; ``edge_ms``: how long a change takes to come and go, outside of its box.
    """

    on: bool = False
    ceiling_db: Annotated[float, msgspec.Meta(ge=0.0, le=18.0)] = 4.0
    limit_db: Annotated[float, msgspec.Meta(ge=-24.0, le=0.0)] = -6.0
    edge_ms: Annotated[float, msgspec.Meta(ge=2.0, le=60.0)] = 50.0


def role_default(_role: str) -> SpotSettings:
    """The settings that a part of any role starts with."""
    return SpotSettings()


def change_of(mark: Mark, settings: SpotSettings, _context: object = None) -> float:
    """What is done to a spot, in dB, from −36 to +12, with a blend by hand already in it."""
    hand = mark.hand
    if hand.leave:
        return 0.0
    if hand.change_db is not None:
        change = min(MOST_DB, max(DEEPEST_DB, hand.change_db))
    elif hand.drawn or not settings.on:
        change = 0.0
    else:
        change = max(settings.limit_db, -max(0.0, mark.standout_db - settings.ceiling_db))
    return change * (1.0 if hand.blend is None else hand.blend)


def band_of(mark: Mark) -> tuple[float, float] | None:
    """Low and high frequency of a spot, by hand where set; None: the whole band."""
    low = mark.low_hz if mark.hand.low_hz is None else mark.hand.low_hz
    high = mark.high_hz if mark.hand.high_hz is None else mark.hand.high_hz
    return None if high <= low else (low, high)
