"""The Line-up pass: the words of the stack start and end with the lead's."""

from isophon.core.passes.kind import Kind
from isophon.core.passes.timing import find, settings, stretch, treat

KIND = Kind(
    "timing", settings.TimingSettings, settings.role_default, stretch.STAGE, treat.treatments,
    against=find.find, change=settings.change_of, least_db=-settings.MOST_MS, most_db=settings.MOST_MS,
    measures={"lined_up": (settings.AlikeWith | None, None)}, tells=treat.told_of, adds=treat.whole_of,
    report=treat.report, learned=True, maps=treat.moved, drawn_s=(0.03, 60.0),
    doubts=treat.doubts,
)  # fmt: skip
