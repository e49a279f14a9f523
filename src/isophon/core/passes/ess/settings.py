"""The settings of the Esses pass, and what they make of a mark."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Literal

import msgspec
import numpy as np

from isophon.core.passes.ess.mark import EssMark

DRAWN_S = (0.01, 1.5)  # shortest and longest that can be drawn
_FEWEST_FOR_USUAL = 4  # esses of which the usual stand-out is taken
_USUAL_PERCENTILE = 25  # esses that are too sharp pull the median up; the softer ones tell how this singer sings
_WIDTH_DB = 60.0  # dB: the deepest change in the band of an ess
_TRACE_DB = -24.0  # what is left of an ess that is taken away: a soft trace
LEFT_ALONE = ("t", "f")  # sounds that are left as sung unless a hand says otherwise


class EssSettings(msgspec.Struct, frozen=True):
    """What the Esses pass does where no hand decided.

    ``ceiling_db``: the stand-out over the voice that is let through.
    ``usual_db``: how far over this singer's usual ess one may stand; the lower
    of both ceilings counts. ``limit_db``: the deepest change. ``edge_ms``: the
    length of the smooth edges. ``sure``: marks of a lower confidence are left.

    ``by``: what brings esses down, the ceiling, the rule or both. The rule (see :mod:`.rule`): ``rule_over_db``: its
    threshold, the level in its band over the voice level; ``rule_ratio`` (100 acts as a limit), ``rule_knee_db``,
    ``rule_range_db``: the most it takes off; its times in ms; its band in Hz (``rule_high_hz`` 0: up to the top);
    ``rule_turns``: what it turns down, the band, everything above, or the whole voice.

    ``stack``: with a lead, whether esses that meet one of the lead's are judged on their own, brought ``under_db``
    under it, or taken away, leaving a soft trace unless ``altogether``. ``air_db`` from ``air_hz`` up: top given
    back after the taming, the esses aside.

    ``sh_db``: how much higher or lower the ceiling lies for Sh, Zh and Ch. ``t_too``, ``f_too``: whether T's and F's
    come down as well, under a ceiling higher by ``t_db`` and ``f_db``. ``whistle_over_db``: how far a whistle may stand
    over the rest of its S.
    """

    ceiling_db: Annotated[float, msgspec.Meta(ge=-24.0, le=12.0)] = 0.0
    usual_db: Annotated[float, msgspec.Meta(ge=0.0, le=24.0)] = 4.0
    limit_db: Annotated[float, msgspec.Meta(ge=-24.0, le=0.0)] = -12.0
    edge_ms: Annotated[float, msgspec.Meta(ge=2.0, le=40.0)] = 12.0
    sure: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5
    by: Literal["ceiling", "rule", "both"] = "ceiling"
    rule_over_db: Annotated[float, msgspec.Meta(ge=-40.0, le=20.0)] = -8.0
    rule_ratio: Annotated[float, msgspec.Meta(ge=1.0, le=100.0)] = 8.0
    rule_knee_db: Annotated[float, msgspec.Meta(ge=0.0, le=24.0)] = 3.0
    rule_range_db: Annotated[float, msgspec.Meta(ge=0.0, le=36.0)] = 12.0
    rule_attack_ms: Annotated[float, msgspec.Meta(ge=0.1, le=100.0)] = 1.0
    rule_release_ms: Annotated[float, msgspec.Meta(ge=1.0, le=500.0)] = 40.0
    rule_hold_ms: Annotated[float, msgspec.Meta(ge=0.0, le=200.0)] = 5.0
    rule_ahead_ms: Annotated[float, msgspec.Meta(ge=0.0, le=20.0)] = 2.0
    rule_low_hz: Annotated[float, msgspec.Meta(ge=1_000.0, le=16_000.0)] = 5_000.0
    rule_high_hz: Annotated[float, msgspec.Meta(ge=0.0, le=24_000.0)] = 0.0
    rule_turns: Literal["band", "above", "voice"] = "band"
    stack: Literal["own", "under", "drop"] = "own"
    under_db: Annotated[float, msgspec.Meta(ge=0.0, le=36.0)] = 9.0
    altogether: bool = False
    air_db: Annotated[float, msgspec.Meta(ge=0.0, le=12.0)] = 0.0
    air_hz: Annotated[float, msgspec.Meta(ge=2_000.0, le=16_000.0)] = 9_000.0
    whistle_over_db: Annotated[float, msgspec.Meta(ge=0.0, le=30.0)] = 9.0
    sh_db: Annotated[float, msgspec.Meta(ge=-12.0, le=12.0)] = 0.0
    t_too: bool = False
    t_db: Annotated[float, msgspec.Meta(ge=-12.0, le=12.0)] = 3.0
    f_too: bool = False
    f_db: Annotated[float, msgspec.Meta(ge=-12.0, le=12.0)] = 0.0


_STACK = EssSettings(ceiling_db=-8.0, usual_db=2.0, limit_db=-15.0)  # the lead's S is enough: common practice
_OF_ROLE = {"double": _STACK, "harmony": _STACK}


def role_default(role: str) -> EssSettings:
    """The settings that a part of a role starts with."""
    return _OF_ROLE.get(role, EssSettings())


def usual_standout(marks: Iterable[EssMark], sure: float = 0.5) -> float | None:
    """The stand-out in dB of this singer's usual ess: the lower quartile of what was found.

    A Z is softer than the S of the same singer, so voiced ones count only where
    there are too few others. None where there are fewer than four to judge by.
    Marks drawn by hand and unsure ones do not count.
    """
    found = [m for m in marks if m.confidence >= sure and not m.hand.drawn
             and m.sound not in LEFT_ALONE]  # fmt: skip
    voiceless = [m for m in found if not m.voiced]
    judged = voiceless if len(voiceless) >= _FEWEST_FOR_USUAL else found
    standouts = [m.standout_db for m in judged]
    return float(np.percentile(standouts, _USUAL_PERCENTILE)) if len(judged) >= _FEWEST_FOR_USUAL else None


def ceiling_over_voice(settings: EssSettings, usual: float | None) -> float:
    """The ceiling in force, in dB over the voice: the lower of the two proposals."""
    if usual is None:
        return settings.ceiling_db
    return min(settings.ceiling_db, usual + settings.usual_db)


def is_left(mark: EssMark, settings: EssSettings) -> bool:
    """Whether a mark is a sound that is left as sung as the settings are."""
    return (mark.sound == "t" and not settings.t_too) or (mark.sound == "f" and not settings.f_too)


def _more_for(sound: str, settings: EssSettings) -> float:
    """How much higher the ceiling lies for a sound, dB."""
    return {"sh": settings.sh_db, "t": settings.t_db, "f": settings.f_db}.get(sound, 0.0)


def _in_the_stack(mark: EssMark, settings: EssSettings) -> float:
    """What the lead's ess that a mark meets makes of it, dB ≤ 0; 0 where it meets none."""
    if mark.partner_s is None or settings.stack == "own":
        return 0.0
    if settings.stack == "drop":
        return -_WIDTH_DB if settings.altogether else _TRACE_DB
    return min(0.0, mark.partner_db - settings.under_db - mark.standout_db)


def change_of(mark: EssMark, settings: EssSettings, usual: float | None) -> float:
    """What is done to a mark, in dB ≤ 0, with a blend by hand already in it."""
    hand = mark.hand
    if hand.leave:
        return 0.0
    if hand.change_db is not None:
        change = hand.change_db
    elif mark.confidence < settings.sure or is_left(mark, settings):
        change = 0.0
    else:
        over = mark.standout_db - ceiling_over_voice(settings, usual) - _more_for(mark.sound, settings)
        change = 0.0 if settings.by == "rule" else max(settings.limit_db, -max(0.0, over))
        change = min(change, _in_the_stack(mark, settings))
    if hand.blend is not None and change < 0:
        gain = 1 + hand.blend * (10 ** (change / 20) - 1)
        change = max(-_WIDTH_DB, 20 * float(np.log10(max(gain, 1e-3))))
    return change
