"""What is known of a session's parts, apart from what a person decided: found, learned, heard, muted.

A session is worked on whole. Its history keeps decisions alone (:func:`decisions_of`), small and never changed
afterwards; what is known is kept once, and both make the session again (:func:`merged`). A mark is known by its
name: one that is found anew takes over the name of the one before it at the same place (:func:`carried_names`), so that
decisions meet it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import Annotated, Any

import msgspec
from msgspec.structs import replace

from isophon.core.audio.leak import Leak
from isophon.core.marks import Hand, Mark, carried_names
from isophon.core.passes import AnyMark, Measured
from isophon.core.ranges import MOST_MARKS, Key, Level, Name
from isophon.core.session.adopting import (
    Beside,
    Findings,
    adopt_beside,
    adopt_findings,
    adopt_leak,
    linked,
    with_leak_moments,
)
from isophon.core.session.edits import hear, with_parts
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session

_NOTHING: dict[str, Any] = {
    "found": False, "voice_lufs": None, "floor_dbfs": None, "measured": Measured(), "leak": None, "heard_without": "",
    "heard_beside": "",
}  # fmt: skip


class Facts(msgspec.Struct, frozen=True):
    """What was found and learned in one recording of a part, as :class:`Part` has it; its marks are undecided."""

    source: Source
    marks: Annotated[tuple[AnyMark, ...], msgspec.Meta(max_length=MOST_MARKS)] = ()
    found: bool = False
    voice_lufs: Level | None = None
    floor_dbfs: Level | None = None
    measured: Measured = Measured()
    leak: Leak | None = None
    heard_without: Name = ""
    heard_beside: Key = ""


FactsByPart = dict[tuple[str, Source], Facts]  # by the part's name and its recording


class SessionFacts(msgspec.Struct, frozen=True):
    """``by_part``: those of parts; ``muted``: names of parts and references; ``heard``: as :class:`Session` has it."""

    by_part: FactsByPart = {}
    muted: frozenset[str] = frozenset()
    heard: tuple[str, ...] = ()


def decisions_of(session: Session, before: tuple[Session, Session] | None = None) -> Session:
    """A session with decisions alone.

    ``before``: another session and its decisions; of parts that are the same ones in both the decisions are kept.
    """
    same = {id(part): decided for part, decided in zip(before[0].parts, before[1].parts, strict=True)} if before else {}
    return replace(
        session,
        parts=tuple(same.get(id(part)) or decided_part(part) for part in session.parts),
        guides=tuple(replace(g, listening=replace(g.listening, muted=False)) if g.listening.muted else g
                     for g in session.guides),
        heard=(),
    )  # fmt: skip


def decided_part(part: Part) -> Part:
    """A part with decisions alone."""
    marks = tuple(sorted((m for m in part.marks if m.hand.decided), key=lambda m: (m.start, m.id)))
    return replace(part, marks=marks, listening=replace(part.listening, muted=False), **_NOTHING)


def facts_of(part: Part) -> Facts:
    """What is known of a part."""
    marks = tuple(replace(m, hand=Hand()) if m.hand.decided else m for m in part.marks if not m.hand.drawn)
    return Facts(part.source, marks, **{name: getattr(part, name) for name in _NOTHING})


def session_facts_of(session: Session, before: SessionFacts | None = None) -> SessionFacts:
    """What is known after ``before``, with what an edit brought: parts that were searched already, what is muted."""
    before = before or SessionFacts()
    new = {(part.id, part.source): facts_of(part) for part in session.parts
           if (part.id, part.source) not in before.by_part and (part.found or part.marks)}  # fmt: skip
    there = {item.id for item in session.items}
    muted = frozenset(item.id for item in session.items if item.listening.muted) | (before.muted - there)
    if not new and muted == before.muted and session.heard == before.heard:
        return before
    return SessionFacts({**before.by_part, **new} if new else before.by_part, muted, session.heard)


def merged(
    decisions: Session, facts: SessionFacts, like: tuple[Session, Session, SessionFacts] | None = None
) -> Session:
    """The session that decisions and facts make.

    ``like``: another session, and what it was made of; its parts are taken where nothing of them differs.
    """
    made = {}
    if like:
        made = {id(one): part for part, one in zip(like[0].parts, like[1].parts, strict=True)
                if like[2].by_part.get((one.id, one.source)) is facts.by_part.get((one.id, one.source))
                and part.listening.muted == (one.id in facts.muted)}  # fmt: skip
    before = {part.id: part for part in like[0].parts} if like else {}
    parts = tuple(made.get(id(one)) or _after(_with_facts(one, facts), before) for one in decisions.parts)
    changed = [part.id for one, part in zip(decisions.parts, parts, strict=True) if id(one) not in made]
    guides = tuple(replace(g, listening=replace(g.listening, muted=True)) if g.id in facts.muted else g
                   for g in decisions.guides)  # fmt: skip
    session = replace(decisions, parts=parts, guides=guides, heard=facts.heard)
    same_lead = like is not None and [one.id for one in like[0].leads] == [one.id for one in session.leads]
    return linked(session, changed if same_lead else None)


def _after(part: Part, before: dict[str, Part]) -> Part:
    return part.after(before[part.id]) if part.id in before else part


def _with_facts(part: Part, facts: SessionFacts) -> Part:
    listening = replace(part.listening, muted=part.id in facts.muted)
    own = facts.by_part.get((part.id, part.source))
    if own is None:
        return replace(part, listening=listening)
    part = replace(part, listening=listening, marks=_marks(part.marks, own.marks),
                   **{name: getattr(own, name) for name in _NOTHING})  # fmt: skip
    return part if own.leak is None else with_leak_moments(part, own.leak)


def with_decisions(part: Part, facts: Facts, decided: tuple[Mark, ...]) -> Part:
    """A part as it was found, with other decisions of its marks."""
    return replace(part, marks=_marks(decided, facts.marks))


def _marks(decided: tuple[Mark, ...], found: tuple[Mark, ...]) -> tuple[Mark, ...]:
    """Found marks with what was decided of them, and those that were drawn, or set by hand and not found any more."""
    if not decided:
        return found
    by_name = {mark.id: mark for mark in decided}
    marks = [_with_hand(mark, by_name.pop(mark.id, None)) for mark in found]
    marks += [mark for mark in by_name.values() if mark.hand.any]
    return tuple(sorted(marks, key=lambda m: (m.start, m.id)))


def _with_hand(mark: Mark, decided: Mark | None) -> Mark:
    if decided is None:
        return mark
    return decided if decided.hand.drawn else replace(mark, hand=decided.hand)


def _adopted(session: Session, facts: SessionFacts, part_id: str, adopt: Callable[..., Session]) -> SessionFacts:
    """What is known once a part took in something; its marks have the names of those that they meet."""
    there = {part.id: part for part in session.parts}
    if part_id not in there:
        return facts
    part = there[part_id]
    own = facts.by_part.get((part_id, part.source), Facts(part.source))
    undecided = with_parts(session, (part_id,), lambda p: replace(p, marks=own.marks))
    after = adopt(undecided, carry=lambda _, new: carried_names(part.marks, new))
    if after is undecided:
        return facts
    return replace(facts, by_part={**facts.by_part, (part_id, part.source): facts_of(after.part(part_id))})


def with_findings(session: Session, facts: SessionFacts, found: Iterable[tuple[str, Findings]]) -> SessionFacts:
    """What is known of a session once its parts, by their names, were searched."""
    for part_id, one in found:
        facts = _adopted(session, facts, part_id, partial(adopt_findings, part_id=part_id, found=one))
    return facts


def with_beside(session: Session, facts: SessionFacts, found: Iterable[tuple[str, Beside]]) -> SessionFacts:
    """The same once they were heard beside the part that they follow."""
    for part_id, one in found:
        facts = _adopted(session, facts, part_id, partial(adopt_beside, part_id=part_id, found=one))
    return facts


def with_leak(session: Session, facts: SessionFacts, part_id: str, leak: Leak, hits: tuple[Mark, ...]) -> SessionFacts:
    """The same once the leak in one of them was learned."""
    return _adopted(session, facts, part_id, partial(adopt_leak, part_id=part_id, leak=leak, hits=hits))


def with_heard(session: Session, facts: SessionFacts, names: Iterable[str]) -> SessionFacts:
    """The same once marks, as ``part/mark``, were heard."""
    return replace(facts, heard=hear(session, set(names)).heard)
