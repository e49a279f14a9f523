"""What is found in a stack part by hearing the lead beside it, from what is kept of both."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path

from isophon.core.audio.files import Recording
from isophon.core.finding import find_against, survey_recording
from isophon.core.session.adopting import Beside
from isophon.core.session.model import Part
from isophon.core.survey import Survey
from isophon.core.takes import cache as take_cache


def key_beside(part: Part, lead: Part) -> str:
    """A short name for a lead and where a part lies beside it."""
    what = f"{lead.source} {round(part.offset_s - lead.offset_s, 4)}"
    return hashlib.sha256(what.encode()).hexdigest()[:16]


def hear_beside(path: Path, lead_path: Path, later_s: float, key: str) -> Beside:
    """Find it."""
    with Recording(path) as recording, Recording(lead_path) as lead:
        found = find_against(recording, survey_of(recording), survey_of(lead), later_s)
        return Beside(found.marks, found.measured, key)


def survey_of(recording: Recording, tell: Callable[[float], None] | None = None) -> Survey:
    """The survey of a recording as it was sung: what is kept of it, else surveyed anew."""
    kept = take_cache.kept_survey(take_cache.place_of(recording.path))
    return kept.survey if kept else survey_recording(recording, tell)
