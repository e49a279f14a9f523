"""The Breaths pass: air between words, under a ceiling over the voice."""

from isophon.core.passes import fades
from isophon.core.passes.breath import find, settings, treat
from isophon.core.passes.breath.mark import BreathMark
from isophon.core.passes.ceiling import change_of
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind

KIND = Kind(
    "breath", settings.BreathSettings, settings.role_default, BreathMark, after=("tick",),
    finder=Finder(lambda context: Found(find.find(context.survey, context.singing))),
    decision=Decision(change_of, drawn_s=settings.DRAWN_S),
    cure=Cure(treat.treatments, (fades.STAGE,), reads=("rumble", "hiss", "band")),
)  # fmt: skip
