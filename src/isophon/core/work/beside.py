"""What is found in a stack part by hearing the lead beside it, from what is kept of both."""

from __future__ import annotations

import hashlib
from pathlib import Path

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.finding import find_against
from isophon.core.passes import BY_NAME
from isophon.core.passes.ears import Ears
from isophon.core.session.edits import Beside
from isophon.core.session.model import Part
from isophon.core.takes import cache as take_cache


def key_beside(part: Part, lead: Part) -> str:
    """A short name for a lead and where a part lies beside it."""
    what = f"{lead.source} {round(part.offset_s - lead.offset_s, 4)}"
    return hashlib.sha256(what.encode()).hexdigest()[:16]


def hear_beside(path: Path, lead_path: Path, later_s: float, key: str) -> Beside:
    """Find it; InputError where one of both was not surveyed yet."""
    kept = [take_cache.kept_survey(take_cache.place_of(one)) for one in (path, lead_path)]
    if kept[0] is None or kept[1] is None:
        raise InputError(f"{path.name}: is still being surveyed")
    with Recording(path) as recording, Recording(lead_path) as lead:
        found = find_against(recording, kept[0].survey, Ears(lead, kept[1].survey, BY_NAME), later_s)
        return Beside(found.marks, found.measured, key)
