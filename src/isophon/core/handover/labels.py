"""Marks and notes as labels beside a stem, and as cue points in it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from isophon.core.audio.chunks import cues
from isophon.core.errors import shown
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.session.model import Part
from isophon.core.session.notes import Note

Row = tuple[tuple[float, float], str]  # start and end in s of the part, and what it says


def labels(part: Part, later_s: float = 0.0, notes: Sequence[Note] = ()) -> str:
    """The marks and notes as tab-separated lines: start, end, what; any editor's label track reads them."""
    lines = list(_note_rows(notes))
    for mark in (m for m in part.marks if _is_labelled(part, m)):
        name = f"{mark.kind} {_label(mark)}".strip()
        words = f"{name} {mark.standout_db:+.1f} dB over the voice, change {part.change(mark):.1f} dB"
        lines.append((mark.span, words))
    rows = []
    for span, words in sorted(lines):
        start, end = (part.heard_at(t) + later_s for t in span)
        rows.append(f"{start:.6f}\t{end:.6f}\t{shown(words)}")
    return "\n".join(rows) + ("\n" if rows else "")


def _note_rows(notes: Sequence[Note]) -> Iterator[tuple[tuple[float, float], str]]:
    return (((note.start, note.end), f"{'place' if note.kind == 'place' else 'note'}: {note.words}") for note in notes)


def _is_labelled(part: Part, mark: Mark) -> bool:
    kind = BY_NAME[mark.kind]
    reporter = kind.reporter
    return reporter.in_time and kind.cure.maps is None and (not reporter.if_changed or part.acts(mark))


def _label(mark: Mark) -> str:
    return BY_NAME[mark.kind].reporter.label(mark)


def cue_chunks(part: Part, rate: int, before_it: int, notes: Sequence[Note] = ()) -> bytes:
    """The same as ``cue`` and ``LIST adtl`` chunks of a WAVE file at ``rate`` Hz, ``before_it`` frames later."""
    marks = ((m.span, " ".join(filter(None, (m.kind, _label(m), f"{part.change(m):.1f} dB"))))
             for m in part.marks if _is_labelled(part, m))  # fmt: skip
    places = []
    for span, words in (*marks, *_note_rows(notes)):
        start, end = map(part.heard_at, span)
        places.append((before_it + max(0, round(start * rate)), max(1, round((end - start) * rate)), shown(words)))
    return cues(places)
