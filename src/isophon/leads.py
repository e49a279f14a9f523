"""The lead that recordings in a terminal belong to: what they meet in it, and what is found beside it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import NamedTuple

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError, shown
from isophon.core.finding import find_against, find_all, survey_recording
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME, KINDS
from isophon.core.passes.ears import Ears, Listened
from isophon.core.reading import path_of
from isophon.core.session import edits
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey
from isophon.core.work.beside import key_beside


class Lead(NamedTuple):
    """The lead that recordings belong to: its marks, what was heard, and where it starts on the recorder's clock, s."""

    marks: tuple[Mark, ...]
    clock_s: float | None
    ears: Ears

    def begins(self, recording: Recording) -> float:
        """How much later than the lead a recording starts, in s: together unless both tell a time."""
        mine = _clock_of(recording)
        return 0.0 if mine is None or self.clock_s is None else mine - self.clock_s


def _clock_of(recording: Recording) -> float | None:
    told = recording.time_reference
    return None if told is None else told / recording.sample_rate


def lead_of(path: Path | None) -> Lead | None:
    """The lead that was named, looked through for what the others meet."""
    if path is None:
        return None
    meeting = {kind.name for kind in KINDS if kind.meets}
    with Recording(path) as recording:
        found = survey_recording(recording)
        marks = find_all(recording, found, wanted=meeting).marks
        return Lead(marks, _clock_of(recording), Ears(recording, found, BY_NAME))


def beside_the_lead(part: Part, heard: Listened, found: Survey, lead: Ears, later_s: float, kinds: set[str]) -> Part:
    """A part with what is found in it by hearing the lead beside it; said where they do not sing the same."""
    beside = find_against(heard, found, lead, later_s, kinds)
    session = edits.adopt_beside(Session("", (part,)), part.id, edits.Beside(beside.marks, beside.measured))
    told = beside.measured.lined_up
    if told is not None and not told.same:
        name = shown(path_of(part.source.path).name)
        print(f"isophon: {name}: does not sing what the lead sings; none of its words was moved", file=sys.stderr)
    return session.part(part.id)


def lined_up(session: Session, part: Part, recording: Recording, found: Survey, kinds: set[str]) -> Part:
    """A part of a session with what is found beside its lead, where that was not yet."""
    lead = session.lead
    if lead is None or part.role == "lead" or part.heard_beside == key_beside(part, lead):
        return part
    if not any(BY_NAME[kind].against for kind in kinds):
        return part
    try:
        with Recording(path_of(lead.source.path)) as other:
            ears = Ears(other, survey_recording(other), BY_NAME)
            return beside_the_lead(part, recording, found, ears, part.offset_s - lead.offset_s, kinds)
    except InputError:
        return part  # the lead cannot be read: that is told where it is worked on itself
