"""Carrying on: a finished passage stands at the other places where the song repeats it."""

from isophon.core.passes.carry import settings, treat
from isophon.core.passes.carry.mark import PassageMark
from isophon.core.passes.kind import Cure, Decision, Kind, Reporter

KIND = Kind(
    "carry", settings.CarrySettings, settings.role_default, PassageMark, after=("timing",),
    decision=Decision(settings.change_of, drawn_s=settings.DRAWN_S),
    cure=Cure(treat.treatments, (treat.STAGE,), ends_s=treat.end_of),
    reporter=Reporter(copied_from=lambda mark: mark.from_s, if_changed=True, outlined=True),
)  # fmt: skip
