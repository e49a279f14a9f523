"""The Ticks pass: mouth clicks repaired, never turned down; clipped peaks and dropouts on request."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, Reporter
from isophon.core.passes.removed import what_stands_out
from isophon.core.passes.tick import find, settings, treat
from isophon.core.passes.tick.mark import TickMark
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _mark_json(_part: Part, mark: TickMark, _with_lead: bool) -> dict[str, Any]:
    """Which damage it is."""
    return {"sound": mark.sound} if mark.sound else {}


def _removed(part: Part, mark: TickMark, survey: Survey) -> tuple[np.ndarray, np.ndarray] | None:
    """What a click adds to what is beside it; of damage a survey does not tell."""
    return None if mark.sound in settings.DAMAGE else what_stands_out(part, mark, survey)


KIND = Kind(
    "tick", settings.TickSettings, settings.role_default, TickMark, after=("pop",),
    finder=Finder(lambda context: Found(find.find(context.read, context.survey))),
    decision=Decision(settings.change_of, drawn_s=settings.DRAWN_S),
    removed=_removed, cure=Cure(treat.treatments, (treat.STAGE,)),
    reporter=Reporter(mark_json=_mark_json, label=lambda mark: mark.sound),
)  # fmt: skip
