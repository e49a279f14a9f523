"""Marks that follow from settings, drawn anew where these changed; what was decided by hand stays."""

from __future__ import annotations

from msgspec.structs import replace

from isophon.core.errors import CallError
from isophon.core.passes import BY_NAME, KINDS
from isophon.core.passes.kind import Span
from isophon.core.session.adopting import Findings, adopt_findings
from isophon.core.session.edits import with_part
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey

_LEAST_S = 0.02  # s: a shorter stretch is not drawn again


def is_due(part: Part) -> bool:
    """Whether marks of a part were drawn by other settings than its own."""
    return part.found and any(kind.redrawing.is_due(part) for kind in KINDS if kind.redrawing)


def redrawn(part: Part, survey: Survey) -> Findings:
    """What is found in a part once those marks are drawn by its settings; ``survey``: of its take."""
    due = {kind.name: kind.redrawing.draw(part, survey) for kind in KINDS
           if kind.redrawing and kind.redrawing.is_due(part)}  # fmt: skip
    rest = [mark for mark in part.marks if mark.kind not in due and BY_NAME[mark.kind].found_in_take]
    measured = {name: value for found in due.values() for name, value in found.measured.items()}
    marks = sorted([*rest, *(mark for found in due.values() for mark in found.marks)], key=lambda m: (m.start, m.id))
    return Findings(part.source, tuple(marks), part.voice_lufs, part.floor_dbfs or 0.0,
                    replace(part.measured, **measured), part.heard_without)  # fmt: skip


def with_redrawn(session: Session, part: Part, survey: Survey) -> Part:
    """A part of a session with such marks drawn anew, where they are due."""
    return adopt_findings(session, part.id, redrawn(part, survey)).part(part.id) if is_due(part) else part


def say(session: Session, part_id: str, kind: str, span: Span, sung: bool) -> Session:
    """Say of a span (s) of a part that it is singing, or is not; CallError where it is too short."""
    redrawing, part = BY_NAME[kind].redrawing, session.part(part_id)
    start, end = max(0.0, span.start), min(part.source.duration, span.end)
    if redrawing is None or end - start < _LEAST_S:
        raise CallError("select 20 ms or more of the part to say what it is")
    return with_part(session, part_id, lambda one: redrawing.say(one, Span(start, end), sung))
