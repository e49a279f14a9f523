"""Rumble, of the Floor pass: a low cut under the voice."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from isophon.core.passes.kind import Cure, Finder, Found, Kind, Reporter
from isophon.core.passes.rumble import find, settings, treat
from isophon.core.ranges import Hertz

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _summary(part: Part) -> str:
    hz = settings.cut_in(part)
    return "" if hz is None else f"low cut at {hz:.0f} Hz"


def _row(part: Part) -> dict[str, Any] | None:
    hz = settings.cut_in(part)
    return None if hz is None else {"cut_hz": hz, "slope": part.rumble.slope}


KIND = Kind(
    "rumble", settings.RumbleSettings, settings.role_default,
    finder=Finder(lambda context: Found(measured={"lowest_hz": find.lowest_note(context.survey)}),
                  measures={"lowest_hz": (Hertz | None, None)}),
    cure=Cure(treat.treatments, (treat.STAGE,), steady=settings.steady_db),
    reporter=Reporter(row=_row, summary=_summary),
)  # fmt: skip
