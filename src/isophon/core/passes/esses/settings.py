"""The settings of the Esses pass, and what they make of a mark."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated

import msgspec
import numpy as np

from isophon.core.marks import Mark

DRAWN_S = (0.01, 1.5)  # shortest and longest that can be drawn
_FEWEST_FOR_USUAL = 4
_WIDTH_DB = 60.0


class EssSettings(msgspec.Struct, frozen=True):
    """What the Esses pass does where no hand decided.

    ``ceiling_db``: the stand-out over the voice that is let through.
    ``usual_db``: how far over this singer's usual ess one may stand; the lower
    of both ceilings counts. ``limit_db``: the deepest change. ``edge_ms``: the
    length of the smooth edges. ``sure``: marks of a lower confidence are left.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=-24.0, le=12.0)] = -3.0
    usual_db: Annotated[float, msgspec.Meta(ge=0.0, le=24.0)] = 3.0
    limit_db: Annotated[float, msgspec.Meta(ge=-24.0, le=0.0)] = -12.0
    edge_ms: Annotated[float, msgspec.Meta(ge=2.0, le=40.0)] = 12.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5


_STACK = EssSettings(ceiling_db=-8.0, usual_db=0.0, limit_db=-15.0)  # the lead's S is enough: common practice
_OF_ROLE = {"double": _STACK, "harmony": _STACK}


def role_default(role: str) -> EssSettings:
    """The settings that a part of a role starts with."""
    return _OF_ROLE.get(role, EssSettings())


def usual_standout(marks: Iterable[Mark], sure: float = 0.5) -> float | None:
    """The stand-out in dB of this singer's usual ess: the median of what was found.

    A Z is softer than the S of the same singer, so voiced ones count only where
    there are too few others. None where there are fewer than four to judge by.
    Marks drawn by hand and unsure ones do not count.
    """
    found = [m for m in marks if m.kind == "ess" and m.confidence >= sure and not m.hand.drawn]
    voiceless = [m for m in found if not m.voiced]
    judged = voiceless if len(voiceless) >= _FEWEST_FOR_USUAL else found
    return float(np.median([m.standout_db for m in judged])) if len(judged) >= _FEWEST_FOR_USUAL else None


def ceiling_over_voice(settings: EssSettings, usual: float | None) -> float:
    """The ceiling in force, in dB over the voice: the lower of the two proposals."""
    if usual is None:
        return settings.ceiling_db
    return min(settings.ceiling_db, usual + settings.usual_db)


def change_of(mark: Mark, settings: EssSettings, usual: float | None) -> float:
    """What is done to a mark, in dB ≤ 0, with a blend by hand already in it."""
    hand = mark.hand
    if hand.leave:
        return 0.0
    if hand.change_db is not None:
        change = hand.change_db
    elif mark.confidence < settings.sure:
        change = 0.0
    else:
        over = mark.standout_db - ceiling_over_voice(settings, usual)
        change = max(settings.limit_db, -max(0.0, over))
    if hand.blend is not None and change < 0:
        gain = 1 + hand.blend * (10 ** (change / 20) - 1)
        change = max(-_WIDTH_DB, 20 * float(np.log10(max(gain, 1e-3))))
    return change
