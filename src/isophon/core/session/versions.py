"""Versions: what was decided, kept under a letter, so that two to four ways of cleaning can be heard in turn.

The letter in force is worked on: what is changed belongs to it. Going to another letter keeps what stands under the
first. All of these are pure edits, like those of :mod:`.edits`.
"""

from __future__ import annotations

from collections.abc import Collection

from msgspec.structs import replace

from isophon.core.errors import CallError
from isophon.core.passes import Settings
from isophon.core.ranges import Letter
from isophon.core.session.checks import flaw_of_item
from isophon.core.session.edits import with_parts
from isophon.core.session.facts import decided_part, facts_of, with_decisions
from isophon.core.session.model import Part, Session
from isophon.core.session.stored_version import PartDecisions, Version

_FIELDS = (*Settings.__struct_fields__, "done", "learned")


def gone_to(session: Session, letter: Letter) -> Session:
    """The session with another letter in force: what stands now is kept under the one that was.

    A letter that is new begins as what stands now.
    """
    session = _kept(session, session.version or letter)
    if version := _version(session, letter):
        session = _taken(session, version, [part.id for part in session.parts])
    else:
        session = _kept(session, letter)
    return replace(session, version=letter)


def taken_from(session: Session, letter: str, part_ids: Collection[str]) -> Session:
    """Some parts as they stand in a version; the letter in force stays."""
    version = _version(session, letter)
    if version is None:
        raise CallError(f"{letter}: nothing is kept under this letter yet")
    return _taken(session, version, part_ids)


def settled(session: Session) -> Session:
    """What stands now is the one that counts: all versions go."""
    return replace(session, versions=(), version="")


def parts_of(session: Session, letter: str) -> list[tuple[Part, PartDecisions]]:
    """The parts for which something is kept under a letter, each with what is kept."""
    version = _version(session, letter)
    by_part = {part.id: part for part in version.parts} if version else {}
    return [(part, by_part[part.id]) for part in session.parts if part.id in by_part]


def marks_that_differ(part: Part, decisions: PartDecisions) -> int:
    """How many marks of a part are decided differently in what is kept."""
    mine, its = ({m.id: m.hand for m in marks} for marks in (decided_part(part).marks, decisions.marks))
    return sum(mine.get(name) != its.get(name) for name in {*mine, *its})


def _version(session: Session, letter: str) -> Version | None:
    return next((one for one in session.versions if one.letter == letter), None)


def _kept(session: Session, letter: Letter) -> Session:
    """The session with what stands now kept under a letter."""
    parts = tuple(_decisions(part) for part in session.parts)
    rest = [one for one in session.versions if one.letter != letter]
    versions = sorted([*rest, Version(letter, parts)], key=lambda one: one.letter)
    return replace(session, versions=tuple(versions))


def _decisions(part: Part) -> PartDecisions:
    decided = decided_part(part)
    return PartDecisions(**{name: getattr(decided, name) for name in (*_FIELDS, "id", "marks")})


def _taken(session: Session, version: Version, part_ids: Collection[str]) -> Session:
    by_part = {part.id: part for part in version.parts}

    def change(part: Part) -> Part:
        its = by_part[part.id]
        part = with_decisions(
            replace(part, **{name: getattr(its, name) for name in _FIELDS}), facts_of(part), its.marks
        )
        if flaw := flaw_of_item(part):
            raise CallError(f"version {version.letter} does not fit {part.name} any more ({flaw})")
        return part

    return with_parts(session, [name for name in part_ids if name in by_part], change)
