"""What was found in parts, taken into a session: decisions made by hand stay."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from typing import Annotated, Any

import msgspec
from msgspec.structs import replace

from isophon.core.audio.leak import Leak
from isophon.core.marks import Mark, carry_decisions
from isophon.core.passes import BY_NAME, KINDS, AnyMark, Measured
from isophon.core.ranges import MOST_MARKS, Key, Level, Name
from isophon.core.session.edits import with_parts
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session


class Findings(msgspec.Struct, frozen=True):
    """What surveying and finding found in a recording."""

    source: Source
    marks: Annotated[tuple[AnyMark, ...], msgspec.Meta(max_length=MOST_MARKS)]
    voice_lufs: Level | None
    floor_dbfs: Level
    measured: Measured = Measured()
    heard_without: Name = ""


Carry = Callable[[tuple[Mark, ...], tuple[Mark, ...]], tuple[Mark, ...]]  # old and new marks → new ones


def adopt_findings(session: Session, part_id: str, found: Findings, carry: Carry = carry_decisions) -> Session:
    """Take in what was found in a part; decisions made by hand stay.

    Nothing changes where the part is not there, or names another recording.
    """
    ids = [part.id for part in session.parts if part.id == part_id and part.source == found.source]
    adopted = with_parts(
        session,
        ids,
        lambda part: replace(
            part,
            marks=carry(part.marks, (*found.marks, *(m for m in part.marks if not BY_NAME[m.kind].found_in_take))),
            found=True,
            voice_lufs=found.voice_lufs,
            floor_dbfs=found.floor_dbfs,
            measured=replace(found.measured, **_heard_beside_the_lead(part)),
            heard_without=found.heard_without,
        ),
    )
    return linked(adopted, ids) if ids else session


def _heard_beside_the_lead(part: Part) -> dict[str, Any]:
    """What was measured of a part by hearing the lead beside it; finding its marks anew does not measure that."""
    names = [name for kind in KINDS if kind.beside_lead.find for name in kind.finder.measures]
    return {name: getattr(part.measured, name) for name in names}


class Beside(msgspec.Struct, frozen=True):
    """What is found in a stack part by hearing the lead beside it; ``heard_beside`` as :class:`Part` has it."""

    marks: Annotated[tuple[AnyMark, ...], msgspec.Meta(max_length=MOST_MARKS)]
    measured: Measured
    heard_beside: Key = ""


def adopt_beside(session: Session, part_id: str, found: Beside, carry: Carry = carry_decisions) -> Session:
    """Take in what was found in a stack part by hearing the lead beside it; decisions made by hand stay."""
    beside = {kind.name for kind in KINDS if kind.beside_lead.find}

    def change(part: Part) -> Part:
        others = tuple(m for m in part.marks if m.kind not in beside)
        mine = carry(tuple(m for m in part.marks if m.kind in beside), found.marks)
        measures = {name: getattr(found.measured, name) for name in _heard_beside_the_lead(part)}
        return replace(part, marks=tuple(sorted((*others, *mine), key=lambda m: (m.start, m.id))),
                       measured=replace(part.measured, **measures), heard_beside=found.heard_beside)  # fmt: skip

    return with_parts(session, (part_id,), change)


def met_marks(leads: Sequence[tuple[tuple[Mark, ...], float]]) -> tuple[tuple[Mark, ...], float]:
    """The marks of leads as of one, and the second at which that starts; ``leads``: marks, and where each starts."""
    if len(leads) < 2:
        return leads[0] if leads else ((), 0.0)
    starts = leads[0][1]
    moved = [m if at == starts else replace(m, start=m.start + at - starts, end=m.end + at - starts)
             for marks, at in leads for m in marks]  # fmt: skip
    return tuple(sorted(moved, key=lambda m: (m.start, m.id))), starts


def linked(session: Session, changed: Collection[str] | None = None) -> Session:
    """The session with the marks of the stack tied to those of the lead that they meet.

    ``changed``: the parts whose marks changed, where nothing else did; None for any change.
    """
    leads = {lead.id for lead in session.leads}
    others = None if not leads or changed is None or leads.intersection(changed) else changed
    meeting = [kind.beside_lead.meet for kind in KINDS if kind.beside_lead.meet]

    def change(part: Part) -> Part:
        if not part.found or part is session.lead or (others is not None and part.id not in others):
            return part
        marks, (theirs, starts) = part.marks, met_marks([(one.marks, one.offset_s) for one in session.leads_met(part)])
        for meet in meeting:
            marks = meet(marks, theirs, part.offset_s - starts)
        return part if marks == part.marks else replace(part, marks=marks)

    return replace(session, parts=tuple(change(part) for part in session.parts))


Hits = Annotated[tuple[AnyMark, ...], msgspec.Meta(max_length=MOST_MARKS)]


def adopt_leak(session: Session, part_id: str, leak: Leak, hits: Hits, carry: Carry = carry_decisions) -> Session:
    """Take in what was learned of the cues in a part, from which moments, and where they are heard.

    Nothing changes where the part is not there.
    """
    removing = {kind.name for kind in KINDS if kind.leak_removal}

    def change(part: Part) -> Part:
        before = tuple(m for m in part.marks if m.kind in removing)
        others = tuple(m for m in part.marks if m.kind not in removing)
        marks = sorted((*others, *carry(before, hits)), key=lambda m: (m.start, m.id))
        return with_leak_moments(replace(part, leak=leak, marks=tuple(marks)), leak)

    return with_parts(session, (part_id,), change)


def with_leak_moments(part: Part, leak: Leak) -> Part:
    """A part whose settings name what a leak was learned from."""
    settings = {kind.name: kind.leak_removal.with_moments(part.settings(kind.name), leak)
                for kind in KINDS if kind.leak_removal}  # fmt: skip
    return replace(part, **settings)
