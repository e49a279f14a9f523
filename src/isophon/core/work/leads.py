"""The lead that recordings belong to: what they meet in it, and what is found beside it."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError, OutputError
from isophon.core.finding import find_against
from isophon.core.marks import Mark
from isophon.core.passes import KINDS
from isophon.core.passes.context import Listened
from isophon.core.reading import path_of
from isophon.core.session import adopting
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey
from isophon.core.work.analysis import AnalysisRequest, analyse
from isophon.core.work.beside import beside_as_one, key_beside, survey_of


class Lead(NamedTuple):
    """The lead that recordings belong to: its marks, its survey, and where it starts on the recorder's clock, s."""

    marks: tuple[Mark, ...]
    clock_s: float | None
    survey: Survey

    def begins(self, recording: Recording) -> float:
        """How much later than the lead a recording starts, in s: together unless both tell a time."""
        mine = _clock_of(recording)
        return 0.0 if mine is None or self.clock_s is None else mine - self.clock_s


def _clock_of(recording: Recording) -> float | None:
    reference = recording.time_reference
    return None if reference is None else reference / recording.sample_rate


def lead_of(path: Path) -> Lead:
    """The lead that was named, as it was sung; what is found of it is kept, so that nobody looks it through again."""
    with Recording(path) as recording:
        try:
            found = analyse(recording, AnalysisRequest(), lambda _step, _fraction: None, keep=True)
        except OutputError:  # it cannot be kept
            found = analyse(recording, AnalysisRequest(), lambda _step, _fraction: None)
        return Lead(found.found.marks, _clock_of(recording), found.survey)


def beside_the_leads(
    part: Part, listened: Listened, found: Survey, leads: Sequence[tuple[Lead, float]], kinds: Collection[str]
) -> Part:
    """A part with what its marks meet in leads, and what is found by hearing them beside it.

    ``leads``: each with how much later than it the part starts, s.
    """
    theirs, starts = adopting.met_marks([(lead.marks, -later_s) for lead, later_s in leads])
    marks = part.marks
    for meets in (kind.beside_lead.meet for kind in KINDS if kind.beside_lead.meet and kind.name in kinds):
        marks = meets(marks, theirs, -starts)
    part = replace(part, marks=marks)
    against = [kind for kind in KINDS if kind.beside_lead.find and kind.name in kinds]
    if not against:
        return part
    survey, later_s = beside_as_one([(lead.survey, later_s) for lead, later_s in leads], found)
    beside = find_against(listened, found, survey, later_s, kinds)
    session = adopting.adopt_beside(Session("", (part,)), part.id, adopting.Beside(beside.marks, beside.measured))
    return session.part(part.id)


def beside_the_songs_leads(
    session: Session, part: Part, recording: Recording, found: Survey, kinds: Collection[str]
) -> Part:
    """The same of a part of a session, as far as the session does not hold it yet."""
    met, followed = session.leads_met(part), session.followed(part)
    if not met or not followed:
        return part
    known = session.part(part.id).found and all(lead.found for lead in met)
    up_to_date = part.heard_beside == key_beside(part, followed)
    meets = {kind.name for kind in KINDS if kind.beside_lead.meet and not known}.intersection(kinds)
    against = {kind.name for kind in KINDS if kind.beside_lead.find and not up_to_date}.intersection(kinds)
    asked = [(met, meets | against)] if met == followed else [(met, meets), (followed, against)]
    for leads, names in asked:
        if names:
            part = _beside(part, leads, recording, found, names)
    return part


def _beside(part: Part, leads: Sequence[Part], recording: Recording, found: Survey, kinds: Collection[str]) -> Part:
    there = []
    for lead in leads:
        try:
            there.append((_known_lead(lead), part.offset_s - lead.offset_s))
        except InputError:  # it cannot be read: that is reported where it is worked on itself
            continue
    return beside_the_leads(part, recording, found, there, kinds) if there else part


def _known_lead(lead: Part) -> Lead:
    """A lead of a session, looked through where the session does not know it."""
    path = path_of(lead.source.path)
    with Recording(path) as other:
        return Lead(lead.marks, _clock_of(other), survey_of(other)) if lead.found else lead_of(path)
