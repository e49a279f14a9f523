"""What is found in a stack part by hearing the lead beside it, from what is kept of both."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from pathlib import Path

from isophon.core.audio.files import Recording
from isophon.core.finding import find_against, survey_recording
from isophon.core.joined_survey import joined
from isophon.core.session.adopting import Beside
from isophon.core.session.model import Part
from isophon.core.survey import Survey
from isophon.core.takes import cache as take_cache


def key_beside(part: Part, leads: Sequence[Part]) -> str:
    """A short name for leads and where a part lies beside them."""
    what = "\n".join(f"{lead.source} {round(part.offset_s - lead.offset_s, 4)}" for lead in leads)
    return hashlib.sha256(what.encode()).hexdigest()[:16]


def hear_beside(path: Path, leads: Sequence[tuple[Path, float]], key: str) -> Beside:
    """Find it; ``leads``: their recordings, and how much later than each the part starts, s."""
    with Recording(path) as recording:
        own = survey_of(recording)
        lead, later_s = beside_as_one([(_survey_at(lead_path), later) for lead_path, later in leads], own)
        found = find_against(recording, own, lead, later_s)
        return Beside(found.marks, found.measured, key)


def beside_as_one(leads: Sequence[tuple[Survey, float]], part: Survey) -> tuple[Survey, float]:
    """Leads as one, and how much later than that the part starts, s; ``leads``: surveys, each with the same."""
    survey, starts = joined([(lead, -later_s) for lead, later_s in leads], (part, 0.0))
    return survey, -starts


def _survey_at(path: Path) -> Survey:
    with Recording(path) as lead:
        return survey_of(lead)


def survey_of(recording: Recording, tell: Callable[[float], None] | None = None) -> Survey:
    """The survey of a recording as it was sung: what is kept of it, else surveyed anew."""
    surveyed = take_cache.kept_survey(take_cache.place_of(recording.path))
    return surveyed.survey if surveyed else survey_recording(recording, tell)
