"""The Spots pass: boxes in time and frequency drawn by hand, and words that stand out of their phrase."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, MarkFile, Reporter
from isophon.core.passes.removed import by_change
from isophon.core.passes.spot import file, find, outline, settings, treat
from isophon.core.passes.spot.mark import SpotMark
from isophon.core.passes.stage import Treatment

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _treatments(part: Part) -> Iterator[Treatment]:
    """Boxes and free outlines."""
    yield from treat.treatments(part)
    yield from outline.treatments(part)


KIND = Kind(
    "spot", settings.SpotSettings, settings.role_default, SpotMark, after=("band",),
    finder=Finder(lambda context: Found(find.find(context.survey))),
    decision=Decision(settings.change_of, most=settings.MOST_DB, drawn_s=settings.DRAWN_S),
    removed=by_change, cure=Cure(_treatments, (treat.STAGE, outline.STAGE)),
    reporter=Reporter(if_changed=True, outlined=True),
    mark_file=MarkFile("spots", "boxes to treat by hand: start_s end_s low_hz high_hz change_db", "boxes",
                       file.load_spots),
)  # fmt: skip
