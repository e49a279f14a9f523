"""The Line-up pass: the words of the stack start and end with the lead's."""

from operator import attrgetter

from isophon.core.passes.kind import BesideLead, Cure, Decision, Finder, Kind, Reporter
from isophon.core.passes.timing import find, report, settings, stretch, treat
from isophon.core.passes.timing.mark import WordMark

KIND = Kind(
    "timing", settings.TimingSettings, settings.role_default, WordMark, after=("spot",),
    finder=Finder(measures={"lined_up": (settings.AlikeWith | None, None)}),
    decision=Decision(settings.change_of, unit="ms", height=attrgetter("late_ms"), least=-settings.MOST_MS,
                      most=settings.MOST_MS, drawn_s=(0.03, 60.0)),
    cure=Cure(treat.treatments, (stretch.STAGE,), maps=treat.moved),
    reporter=Reporter(row=report.row, mark_json=report.mark_json, extra_json=report.extra_json, doubts=report.doubts),
    beside_lead=BesideLead(find=find.find),
)  # fmt: skip
