"""What a hand decided about one mark, given to others: pure edits, like those of :mod:`.edits`."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from functools import partial

from msgspec.structs import replace

from isophon.core.errors import CallError
from isophon.core.marks import Hand, Mark, check_apart, mark_id
from isophon.core.passes import BY_NAME
from isophon.core.session.alike import distances
from isophon.core.session.edits import with_hands, with_part
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey

LIKE_DB = 6.0  # as far apart as one singer's sounds of a sort are
_NEAR_S = 0.08  # as far apart as doubled consonants come

Target = tuple[str, str]  # the ids of a part and of a mark in it


def like_it(survey: Survey, part: Part, mark: Mark) -> tuple[Target, ...]:
    """The other marks of a part that are of the same kind and name, and sound like one."""
    label = BY_NAME[mark.kind].reporter.label
    others = [m for m in part.of_kind(mark.kind) if m.id != mark.id and label(m) == label(mark)]
    near = distances(survey, mark, others)
    return tuple((part.id, other.id) for other, away in zip(others, near, strict=True) if away <= LIKE_DB)


def same_place(session: Session, part_id: str, mark: Mark, others: Collection[str]) -> tuple[Target, ...]:
    """The marks of its kind that sound at the same time of the song in other parts."""
    start, end = (t + session.part(part_id).offset_s for t in mark.span)
    found = []
    for part in (session.part(name) for name in others if name != part_id):
        for other in part.of_kind(mark.kind):
            first, last = (t + part.offset_s for t in other.span)
            if start < last + _NEAR_S and first < end + _NEAR_S:
                found.append((part.id, other.id))
    return tuple(found)


def treated_like(session: Session, mark: Mark, targets: Iterable[Target]) -> Session:
    """Decide other marks as one is decided: change, fades, curves, band, and edges by as much as its own were moved."""
    by_part: dict[str, set[str]] = {}
    for part_id, name in targets:
        by_part.setdefault(part_id, set()).add(name)
    for part_id, names in by_part.items():
        session = with_hands(session, part_id, names, partial(_like, mark))
    return session


def decisions_carried(session: Session, part_ids: Collection[str], start: float, end: float, at: float,
                      tempo: float = 1.0) -> Session:  # fmt: skip
    """What a hand decided from ``start`` to ``end`` (s of the song), done to the marks that sound as much after ``at``.

    ``tempo``: how many times as long the passage is there. Marks that were drawn are drawn there too. CallError where
    there is nothing to carry, or where both overlap.
    """
    check_apart(start, end, at, tempo)
    carried = 0
    for part_id in part_ids:
        part = session.part(part_id)
        first, last = start - part.offset_s, end - part.offset_s
        for mark in part.marks:
            if not (mark.hand.any and first <= mark.span[0] and mark.span[1] <= last):
                continue
            by = at - start + (tempo - 1) * (mark.span[0] - first)
            if mark.hand.drawn:
                session = _drawn_again(session, part, mark, by)
                carried += 1
                continue
            there = [(part_id, other.id) for other in part.of_kind(mark.kind) if other.id != mark.id
                     and other.start < mark.end + by + _NEAR_S and other.end > mark.start + by - _NEAR_S]  # fmt: skip
            session = treated_like(session, mark, there)
            carried += len(there)
    if not carried:
        raise CallError("nothing that a hand decided in the passage has its like there")
    return session


def _drawn_again(session: Session, part: Part, mark: Mark, by: float) -> Session:
    """A mark that was drawn, once more so many seconds later; CallError where the part does not reach so far."""
    start, end = (round(t + by, 4) for t in mark.span)
    if start < 0 or end > part.source.duration:
        raise CallError(f"{part.name} is not there at {start + part.offset_s:.1f} s")
    hand = mark.hand
    outline = tuple((round(t + by, 4), hz) for t, hz in hand.outline)
    moved = replace(mark, start=start, end=end, hand=replace(hand, start=None, end=None, outline=outline))
    there = session.part(part.id)
    moved = replace(moved, id=mark_id(mark.kind, start, {m.id for m in there.marks}))
    marks = tuple(sorted((*there.marks, moved), key=lambda m: (m.start, m.id)))
    return with_part(session, part.id, lambda one: replace(one, marks=marks))


def _like(model: Mark, mark: Mark) -> Hand:
    """What is decided about a mark once it is treated as another."""
    like = model.hand
    start, end = (None if by_hand is None else round(own + by_hand - found, 4) for by_hand, own, found in
                  ((like.start, mark.start, model.start), (like.end, mark.end, model.end)))  # fmt: skip
    if start is not None or end is not None:
        start, end = mark.start if start is None else start, mark.end if end is None else end
        start, end = (None, None) if end <= start else (max(0.0, start), end)
    return replace(
        mark.changed(model.by_hand), leave=like.leave, blend=like.blend, agreed=like.agreed, start=start, end=end,
        low_hz=like.low_hz, high_hz=like.high_hz, curve=like.curve, shape=like.shape, fades_ms=like.fades_ms,
    )  # fmt: skip
