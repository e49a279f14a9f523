"""Bleed: the headphone feed, predicted from its cue and subtracted. Its hits are found when the leak is learned."""

from typing import Any

from isophon.core.passes.bleed import settings, treat
from isophon.core.passes.kind import Kind


def _report(part: Any) -> dict[str, Any] | None:
    """What is known of what leaked, None where nothing was learned."""
    leak = part.leak
    if leak is None:
        return None
    row = {"found": bool(leak.key), "cues": list(leak.cues), "delay_s": leak.delay_s, "drift_ppm": leak.ppm,
           "less_db": leak.less_db}  # fmt: skip
    return row | ({"beat_s": leak.beat_s} if leak.own_click else {})


def _told(part: Any) -> str:
    leak = part.leak
    if leak is None or not leak.key:
        return ""
    where = f"every {leak.beat_s:.4f} s" if leak.own_click else f"{1000 * leak.delay_s:.2f} ms later"
    return f"bleed of {', '.join(leak.cues)}: {where}, {leak.less_db:.1f} dB less of it"


def _flaw(part: Any) -> str:
    flaw = settings.flaw_of(part.leak)
    return flaw and f"leak.{flaw}"


KIND = Kind(
    "bleed", settings.BleedSettings, settings.role_default, treat.STAGE, treat.treatments,
    change=lambda mark, settings_, context: settings.change_of(mark, settings_), learned=True,
    one_take=("nudge_ms", "learn_from", "learn_to"), report=_report, told=_told, flaw=_flaw,
)  # fmt: skip
