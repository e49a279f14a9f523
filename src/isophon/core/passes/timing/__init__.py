"""The Line-up pass: the words of the stack start and end with the lead's."""

from isophon.core.passes.kind import Kind
from isophon.core.passes.timing import find, line_up, settings, stretch

KIND = Kind(
    "timing", settings.TimingSettings, settings.role_default, stretch.STAGE, line_up.treatments,
    against=find.find, change=settings.change_of, least_db=-settings.MOST_MS, most_db=settings.MOST_MS,
    measures={"lined_up": (settings.AlikeWith | None, None)}, tells=line_up.told_of, adds=line_up.whole_of,
    report=line_up.report, learned=True, maps=line_up.moved, drawn_s=(0.03, 60.0),
    doubts=line_up.doubts,
)  # fmt: skip
