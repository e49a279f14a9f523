"""Bleed: the headphone feed, predicted from its cue and subtracted. Its hits are found when the leak is learned."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from isophon.core.audio.leak import flaw_of
from isophon.core.passes.bleed import leak, settings, treat
from isophon.core.passes.bleed.mark import HitMark
from isophon.core.passes.kind import Cure, Decision, Finder, Kind, LeakRemoval, Reporter

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _row(part: Part) -> dict[str, Any] | None:
    """What is known of what leaked, None where nothing was learned."""
    known = part.leak
    if known is None:
        return None
    row = {"found": bool(known.key), "cues": list(known.cues), "delay_s": known.delay_s, "drift_ppm": known.ppm,
           "less_db": known.less_db}  # fmt: skip
    return row | ({"beat_s": known.beat_s} if known.own_click else {})


def _summary(part: Part) -> str:
    """What is taken out, in a line."""
    known = part.leak
    if known is None or not known.key:
        return ""
    where = f"every {known.beat_s:.4f} s" if known.own_click else f"{1000 * known.delay_s:.2f} ms later"
    return f"bleed of {', '.join(known.cues)}: {where}, {known.less_db:.1f} dB less of it"


def _flaw(part: Part) -> str:
    flaw = flaw_of(part.leak)
    return flaw and f"leak.{flaw}"


KIND = Kind(
    "bleed", settings.BleedSettings, settings.role_default, HitMark, after=("hiss",),
    one_take=("nudge_ms", "learn_from", "learn_to"), times=("learn_from", "learn_to"),
    finder=Finder(flaw=_flaw), decision=Decision(settings.change_of),
    cure=Cure(treat.treatments, (treat.STAGE,)), reporter=Reporter(row=_row, summary=_summary),
    leak_removal=LeakRemoval(
        removal=lambda mine: mine.removal, nudge_s=lambda mine: mine.nudge_ms / 1000,
        moments=lambda mine: mine.moments, with_moments=settings.with_moments, learn=leak.learn_leak, hits=leak.hits,
    ),
)  # fmt: skip
