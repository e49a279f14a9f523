"""The Bands pass: resonances of room and microphone under a ceiling, and bells and shelves by hand."""

from isophon.core.passes import filters
from isophon.core.passes.band import find, settings, treat
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, Reporter

KIND = Kind(
    "band", settings.BandSettings, settings.role_default, BandMark, after=("ess",),
    finder=Finder(lambda context: Found(find.find(context))),
    decision=Decision(settings.change_of, most=settings.MOST_DB, drawn_s=(0.05, 86_400.0)),
    cure=Cure(treat.treatments, (filters.STAGE,), steady=treat.response_of),
    reporter=Reporter(steady_json=settings.steady_json, summary=settings.summary, in_time=False),
)  # fmt: skip
