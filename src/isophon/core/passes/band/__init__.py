"""The Bands pass: resonances of room and microphone under a ceiling, and bells and shelves by hand."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from isophon.core.passes import filters
from isophon.core.passes.band import by_level, file, find, settings, treat
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, MarkFile, Reporter
from isophon.core.passes.stage import Treatment

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _treatments(part: Part) -> Iterator[Treatment]:
    """Those that are cut always, and those by level."""
    yield from treat.treatments(part)
    yield from by_level.treatments(part)


KIND = Kind(
    "band", settings.BandSettings, settings.role_default, BandMark, after=("ess",),
    finder=Finder(lambda context: Found(find.find(context))),
    decision=Decision(settings.change_of, most=settings.MOST_DB, drawn_s=(0.05, 86_400.0)),
    cure=Cure(_treatments, (filters.STAGE, by_level.STAGE), steady=treat.response_of),
    reporter=Reporter(steady_json=settings.steady_json, summary=settings.summary, in_time=False),
    mark_file=MarkFile("bands", "bands to cut, as find --json prints them, in place of what is found", "bands",
                       file.load_bands, replaces=True),
)  # fmt: skip
