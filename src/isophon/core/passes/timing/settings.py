"""The settings of the Line-up pass, and what they make of a word."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.passes.timing.mark import WordMark
from isophon.core.ranges import Share

MOST_MS = 400.0  # ms: no word is moved further
LEAST_MS = 0.5  # what would move less is let be


class AlikeWith(msgspec.Struct, frozen=True):
    """How alike a part and the lead are, 0 to 1, and whether that is enough for them to sing the same."""

    alike: Share
    same: bool


class TimingSettings(msgspec.Struct, frozen=True):
    """What the Line-up pass does where no hand decided.

    ``on``: whether words are moved. A word up to ``early_ms`` early or ``late_ms`` late is left; one that is moved
    lands ``land_ms`` late, and is moved by ``most_ms`` at the most. ``ends``: whether the ends of words are lined up
    too. ``sure``: words that are less like the lead's stay.
    """

    on: bool = False
    early_ms: Annotated[float, msgspec.Meta(ge=0.0, le=200.0)] = 5.0
    late_ms: Annotated[float, msgspec.Meta(ge=0.0, le=200.0)] = 35.0
    land_ms: Annotated[float, msgspec.Meta(ge=-50.0, le=100.0)] = 8.0
    most_ms: Annotated[float, msgspec.Meta(ge=0.0, le=MOST_MS)] = 250.0
    ends: bool = True
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.3


_LINED_UP = TimingSettings(on=True)  # what is not the lead and sings its words is lined up
_OF_ROLE = {"double": _LINED_UP, "harmony": _LINED_UP}


def role_default(role: str) -> TimingSettings:
    """The settings that a part of a role starts with."""
    return _OF_ROLE.get(role, TimingSettings())


def move_of(late_ms: float, settings: TimingSettings) -> float:
    """By how many ms a moment that is so late is moved; negative: earlier; 0 where it is let be."""
    if -settings.early_ms <= late_ms <= settings.late_ms:
        return 0.0
    return min(settings.most_ms, max(-settings.most_ms, settings.land_ms - late_ms))


def change_of(mark: WordMark, settings: TimingSettings, _context: object = None) -> float:
    """By how many ms the start of a word is moved; negative: earlier."""
    hand = mark.hand
    if hand.leave or not (mark.anchors or hand.anchors):
        return 0.0
    if hand.moved_ms is not None:
        return min(MOST_MS, max(-MOST_MS, hand.moved_ms))
    if hand.anchors:
        at, to_s = hand.anchors[0]
        return min(MOST_MS, max(-MOST_MS, 1000 * (to_s - at)))
    if not settings.on or mark.confidence < settings.sure:
        return 0.0
    move = move_of(mark.late_ms, settings)
    return move if abs(move) >= LEAST_MS else 0.0
