"""Rumble, of the Floor pass: a low cut under the voice."""

from typing import Any

from isophon.core.passes.kind import Found, Kind
from isophon.core.passes.rumble import find, settings, treat
from isophon.core.ranges import Hertz


def _told(part: Any) -> str:
    hz = settings.cut_in(part)
    return "" if hz is None else f"low cut at {hz:.0f} Hz"


def _report(part: Any) -> dict[str, Any] | None:
    hz = settings.cut_in(part)
    return None if hz is None else {"cut_hz": hz, "slope": part.rumble.slope}


KIND = Kind(
    "rumble", settings.RumbleSettings, settings.role_default, treat.STAGE, treat.treatments,
    find=lambda ears: Found(measured={"lowest_hz": find.lowest_note(ears.survey)}), marked=False,
    measures={"lowest_hz": (Hertz | None, None)}, report=_report, told=_told, steady=settings.steady_db,
)  # fmt: skip
