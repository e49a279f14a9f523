"""The Breaths pass: air between words, under a ceiling over the voice."""

from isophon.core.passes import fades
from isophon.core.passes.breath import find, risk, settings, treat
from isophon.core.passes.breath.mark import BreathMark
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, Reporter, Risk
from isophon.core.passes.removed import by_change

KIND = Kind(
    "breath", settings.BreathSettings, settings.role_default, BreathMark, after=("tick",),
    finder=Finder(lambda context: Found(find.find(context.survey, context.singing))),
    decision=Decision(settings.change_of, drawn_s=settings.DRAWN_S),
    risk=Risk(risk.risk_of, 12.0, "dB", "goes beside a word"),
    reporter=Reporter(mark_json=lambda _part, mark, _with_lead: {"place": mark.place}),
    taught=(("ceiling_db",), ("limit_db",), ("heads_db",), ("between_db",), ("ends_db",)),
    removed=by_change, cure=Cure(treat.treatments, (fades.STAGE,), reads=("rumble", "hiss", "band")),
)  # fmt: skip
