"""What a hand decided about one mark, given to others: pure edits, like those of :mod:`.edits`."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from functools import partial

from msgspec.structs import replace

from isophon.core.marks import Hand, Mark
from isophon.core.passes import BY_NAME
from isophon.core.session.alike import distances
from isophon.core.session.edits import with_hands
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
