"""Notes: a few words at a mark. A note is a marker that names a part and a mark of it.

It is kept apart from what is decided, so a mark with a note still counts as undecided, and a note outlives a mark that
is not found any more: it then stands at its time.
"""

from __future__ import annotations

from typing import NamedTuple

from isophon.core.errors import CallError, shown
from isophon.core.session.items import Marker
from isophon.core.session.layout import new_marker_id, remove_marker, with_markers
from isophon.core.session.model import Part, Session

LONGEST_NOTE = 200  # characters: a limit of ours
_NOTE, _PLACE = "note", "place"


class Note(NamedTuple):
    """What is written beside a part, from ``start`` to ``end`` in s of the part.

    ``kind``: that of its mark; ``note`` where the mark is gone, ``place`` for a named place of the song.
    """

    start: float
    end: float
    words: str
    kind: str


def part_of(session: Session, marker: Marker) -> Part | None:
    """The part that a note belongs to; None for a marker of the song, and where the part is gone."""
    return next((part for part in session.parts if part.id == marker.part), None) if marker.part else None


def song_time(session: Session, marker: Marker) -> float:
    """Where a marker or a note stands, in s of the song."""
    part = part_of(session, marker)
    return marker.at if part is None else part.offset_s + _span(part, marker)[0]


def note_at(session: Session, part_id: str, mark_id: str) -> Marker | None:
    """The note at a mark; None where there is none."""
    return next((m for m in session.markers if m.mark == mark_id and m.part == part_id and mark_id), None)


def set_note(session: Session, part_id: str, mark_id: str, words: str) -> Session:
    """Write a note at a mark, instead of one that is there; empty words delete it.

    CallError where there is no such mark, or the session holds as many markers and notes as it can.
    """
    words = shown(words.strip())[:LONGEST_NOTE]
    old = note_at(session, part_id, mark_id)
    name = old.id if old else new_marker_id(session)
    without = remove_marker(session, name)
    if not words:
        return without
    mark = session.part(part_id).mark(mark_id)
    if mark is None:
        raise CallError("that mark is gone")
    return with_markers(without, [Marker(name, round(mark.span[0], 3), words, part_id, mark_id)])


def notes_of(session: Session, part: Part) -> tuple[Note, ...]:
    """The notes of a part and the named places of the song that lie in it, in order of time."""
    notes = []
    for marker in session.markers:
        if marker.part == part.id:
            start, end, kind = _span(part, marker)
            notes.append(Note(start, end, marker.name, kind))
        elif not marker.part and 0 <= marker.at - part.offset_s <= part.ends_s:
            at = marker.at - part.offset_s
            notes.append(Note(at, at, marker.name, _PLACE))
    return tuple(sorted(notes))


def _span(part: Part, marker: Marker) -> tuple[float, float, str]:
    """Start and end of the mark of a note, in s of the part, and its kind; its own time where the mark is gone."""
    mark = part.mark(marker.mark)
    return (marker.at, marker.at, _NOTE) if mark is None else (*mark.span, mark.kind)
