"""Edits: pure functions from a session to the next. Each is one step of the history."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any

from msgspec.structs import replace

from isophon.core.audio.files import Recording
from isophon.core.errors import CallError, InputError
from isophon.core.marks import Hand, Mark, check_length, mark_id
from isophon.core.passes import BY_NAME
from isophon.core.passes.kind import Span
from isophon.core.ranges import MOST_HEARD
from isophon.core.session.cards import Card, settings_by_kind
from isophon.core.session.chain import Chain
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import drawn_lengths, role_default, span_learning, value_range, with_setting


def check_source(source: Source, recording: Recording) -> None:
    """Raise InputError if a recording is not the one a session was made with."""
    now = (recording.sample_rate, recording.channels, recording.frames)
    if now != (source.sample_rate, source.channels, source.frames):
        raise InputError(
            f"{recording.path.name}: is not the recording that the session was made with (it has {recording.frames} "
            f"frames at {recording.sample_rate} Hz, not {source.frames} at {source.sample_rate}); put that one back"
        )


def set_setting(session: Session, part_ids: Collection[str], kind: str, name: str, value: Any) -> Session:
    """Set one setting of a kind for parts; CallError for a name or value that cannot be."""
    return with_parts(
        session,
        part_ids,
        lambda part: replace(part, **{kind: with_setting(kind, getattr(part, kind), name, value)}),
    )


def learn_span(session: Session, part_id: str, kind: str, span: Span | None, value: Any) -> Session:
    """Let a kind go by what it learned from a span of a part; None for both: by what was measured of the take."""
    adopt = span_learning(kind).adopt
    return with_part(session, part_id, lambda part: adopt(part, span, value))


def apply_card(session: Session, part_ids: Collection[str], card: Card) -> Session:
    """Give parts the settings that a voice card is about."""
    return with_parts(session, part_ids, lambda part: replace(part, **card.onto(settings_by_kind(part))))


def accept_settings(session: Session, part_id: str, kind: str, values: Mapping[str, float | bool]) -> Session:
    """Give a part proposed settings of a kind, and note that they were accepted."""
    for name, value in values.items():
        session = set_setting(session, [part_id], kind, name, value)
    names = tuple(f"{kind}.{name}" for name in values)
    return with_parts(
        session, [part_id], lambda part: replace(part, accepted=tuple(dict.fromkeys((*part.accepted, *names))))
    )


def role_settings(session: Session, part_ids: Collection[str], kinds: Collection[str]) -> Session:
    """Give parts back the settings of their roles."""
    return with_parts(
        session, part_ids, lambda part: replace(part, **{kind: role_default(kind, part.role) for kind in kinds})
    )


def set_chain(session: Session, chain: Chain) -> Session:
    """Listen to the session through another rough chain."""
    return replace(session, chain=chain)


def set_done(session: Session, part_ids: Collection[str], what: str, on: bool) -> Session:
    """Call a pass done for parts, or no longer."""

    def change(part: Part) -> Part:
        rest = tuple(name for name in part.done if name != what)
        return replace(part, done=(*rest, what) if on else rest)

    return with_parts(session, part_ids, change)


def leave(session: Session, part_id: str, ids: Collection[str], on: bool) -> Session:
    """Keep marks as sung, or no longer."""
    return with_hands(session, part_id, ids, lambda m: replace(m.hand, leave=on))


def set_box(
    session: Session, part_id: str, mark: str, start: float, end: float, low_hz: float, high_hz: float | None
) -> Session:
    """Set a mark's time and band by hand; seconds and Hz. Its length is held to what its kind allows."""
    found = session.part(part_id).mark(mark)
    shortest, longest = drawn_lengths(found.kind if found else "")
    if not shortest <= end - start <= longest:
        length = min(longest, max(shortest, end - start))
        moved = found is not None and abs(start - found.span[0]) > abs(end - found.span[1])
        start, end = (end - length, end) if moved else (start, start + length)
    return with_hands(
        session,
        part_id,
        [mark],
        lambda m: replace(
            m.hand,
            start=round(start, 4),
            end=round(end, 4),
            low_hz=round(low_hz),
            high_hz=None if high_hz is None else round(high_hz),
        ),
    )


def set_blend(session: Session, part_id: str, ids: Collection[str], blend: float) -> Session:
    """How much of their change marks keep, from 0 to 1."""
    return with_hands(
        session, part_id, ids, lambda m: replace(m.hand, blend=None if blend >= 1 else round(max(0.0, blend), 3))
    )


def forget_hand(session: Session, part_id: str, ids: Collection[str]) -> Session:
    """Give marks back to the settings; a mark that was drawn by hand goes."""

    def give_back(part: Part) -> Part:
        others = [m for m in part.marks if not (m.id in ids and m.hand.drawn)]
        return replace(part, marks=tuple(replace(m, hand=Hand()) if m.id in ids else m for m in others))

    return with_part(session, part_id, give_back)


def draw_mark(session: Session, part_id: str, mark: Mark) -> tuple[Session, str]:
    """Add a mark drawn by hand, as it was measured. Also returns its name.

    CallError where it is shorter or longer than a mark of its kind can be.
    """
    check_length(mark.end - mark.start, drawn_lengths(mark.kind))
    name = mark_id(mark.kind, mark.start, {m.id for m in session.part(part_id).marks})
    mark = replace(mark, id=name, confidence=1.0, hand=Hand(drawn=True))

    def add(part: Part) -> Part:
        return replace(part, marks=tuple(sorted((*part.marks, mark), key=lambda m: (m.start, m.id))))

    return with_part(session, part_id, add), name


def with_part(session: Session, part_id: str, change: Callable[[Part], Part]) -> Session:
    """A session with one part changed; KeyError if there is none of that name."""
    session.part(part_id)
    return with_parts(session, (part_id,), change)


def with_parts(session: Session, part_ids: Collection[str], change: Callable[[Part], Part]) -> Session:
    """A session with parts changed."""
    wanted = set(part_ids)
    return replace(session, parts=tuple(change(p).after(p) if p.id in wanted else p for p in session.parts))


def with_marks(session: Session, part_ids: Collection[str], change: Callable[[Part], tuple[Mark, ...]]) -> Session:
    """A session with other marks of parts."""
    return with_parts(session, part_ids, lambda part: replace(part, marks=change(part)))


def set_anchors(
    session: Session, part_id: str, mark: str, change: Callable[[Part, Mark], tuple[tuple[float, float], ...]]
) -> Session:
    """Move a word by the moments that ``change`` gives; CallError where the word is not there any more."""
    part = session.part(part_id)
    word = part.mark(mark)
    if word is None:
        raise CallError("the word is not there any more")
    anchors = change(part, word)
    return with_hands(session, part_id, [mark],
                      lambda m: replace(m.changed(None), anchors=anchors, leave=False))  # fmt: skip


def agree(session: Session, part_id: str, ids: Collection[str], masked: bool = False) -> Session:
    """Accept what is done to marks; ``masked``: unheard, since they cannot be heard in the mix."""
    wanted = set(ids)

    def change(part: Part) -> Part:
        good = (
            replace(m, hand=replace(m.hand, agreed=True, masked=masked)) if m.id in wanted else m for m in part.marks
        )
        return part.with_agreed(tuple(good))

    return with_parts(session, (part_id,), change)


def set_changes(session: Session, part_id: str, changes: dict[str, float]) -> Session:
    """Set the changes of marks by hand, each its own; held between the least and the most that its kind allows."""

    def held(mark: Mark) -> float:
        limits = BY_NAME[mark.kind].decision
        return round(min(limits.most, max(limits.least, changes[mark.id])), 2)

    return with_hands(session, part_id, changes, lambda m: replace(m.changed(held(m)), leave=False))


def move_setting(session: Session, before: dict[str, float], kind: str, name: str, by: float) -> Session:
    """Move a setting of parts by as much, each from its own value ``before``, held within its range."""
    low, high = value_range(kind, name)
    for part_id, value in before.items():
        session = set_setting(session, (part_id,), kind, name, round(min(high, max(low, value + by)), 2))
    return session


def set_detail(session: Session, part_id: str, mark: str, **values: Any) -> Session:
    """Set what a kind adds to its marks, of one drawn by hand."""

    def change(part: Part) -> tuple[Mark, ...]:
        return tuple(replace(m, **values) if m.id == mark else m for m in part.marks)

    return with_marks(session, (part_id,), change)


def copy_marks(session: Session, part_id: str, ids: Collection[str], others: Collection[str]) -> Session:
    """Put marks into other parts at the same place of the song, as drawn by hand with the same change."""
    part = session.part(part_id)
    chosen = [mark for name in ids if (mark := part.mark(name)) is not None]

    def change(other: Part) -> Part:
        marks, names = list(other.marks), {m.id for m in other.marks}
        moved = part.offset_s - other.offset_s
        for mark in chosen:
            start, end = (round(t + moved, 4) for t in mark.span)
            if start < 0 or end > other.source.duration:
                continue
            name = mark_id(mark.kind, start, names)
            names.add(name)
            changed = mark.changed(round(part.change(mark), 2))
            hand = replace(changed, start=None, end=None, blend=None, drawn=True)
            marks.append(replace(mark, id=name, start=start, end=end, hand=hand, confidence=1.0))
        return replace(other, marks=tuple(sorted(marks, key=lambda m: (m.start, m.id))))

    return with_parts(session, others, change)


def give_marks(session: Session, part_id: str, kind: str, others: Collection[str]) -> Session:
    """Give other parts the marks of a kind that change a part throughout, as if drawn by hand with the same change.

    What was given or drawn there before gives way.
    """
    part = session.part(part_id)
    longest = 0.99 * part.source.duration
    given = [(mark, change) for mark, change in part.changed(kind) if mark.end - mark.start >= longest]

    def change_of(other: Part) -> Part:
        marks = [m for m in other.marks if not (m.kind == kind and m.hand.drawn)]
        names = {m.id for m in marks}
        for mark, change in given:
            name = mark_id(kind, 0.0, names)
            names.add(name)
            hand = replace(mark.changed(round(change, 2)), drawn=True, blend=None)
            marks.append(replace(mark, id=name, start=0.0, end=other.source.duration, hand=hand, confidence=1.0))
        return replace(other, marks=tuple(sorted(marks, key=lambda m: (m.start, m.id))))

    return with_parts(session, others, change_of)


def hear(session: Session, names: Collection[str]) -> Session:
    """Note marks, as ``part/mark``, as heard."""
    return replace(session, heard=tuple(sorted({*session.heard, *names})[:MOST_HEARD]))


def with_hands(session: Session, part_id: str, ids: Collection[str], change: Callable[[Mark], Hand]) -> Session:
    """A session with what a hand decided about marks changed."""
    wanted = set(ids)
    return with_part(
        session,
        part_id,
        lambda part: replace(
            part, marks=tuple(replace(m, hand=change(m)) if m.id in wanted else m for m in part.marks)
        ),
    )
