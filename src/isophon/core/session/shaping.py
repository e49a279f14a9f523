"""Marks cut in two, joined, and changed along their time or over frequency: pure edits, like those of :mod:`.edits`."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from msgspec.structs import replace

from isophon.core.marks import Hand, Mark, check_length
from isophon.core.passes import BY_NAME
from isophon.core.ranges import MOST_POINTS
from isophon.core.session.edits import draw_mark, leave, set_box, with_hands, with_part
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import drawn_lengths

Shape = tuple[tuple[float, float], ...]
_LOWEST_HZ = 1.0  # Hz of a point of a curve
_HIGHEST_HZ = 200_000.0  # Hz of one
_LONGEST_FADE_MS = 2_000.0  # ms
_ENDING_FADE_MS = 150.0  # ms of the fade of an ending
_SHORT_FADE_MS = 10.0  # ms of a fade that only keeps from clicking


def split(session: Session, part_id: str, mark: Mark, at: float, later: Mark) -> tuple[Session, str]:
    """A mark that ends ``at`` (s), and ``later``: what follows, as it was measured. Also returns that one's name.

    Both are done by as the one was. CallError where a piece would be shorter than a mark of its kind can be.
    """
    start, end = mark.span
    for seconds in (at - start, end - at):
        check_length(seconds, drawn_lengths(mark.kind))
    session = set_box(session, part_id, mark.id, start, at, *mark.band)
    session, name = draw_mark(session, part_id, later)
    hand = replace(mark.hand, start=None, end=None, drawn=True, agreed=False, shape=())
    return with_hands(session, part_id, [name], lambda _m: hand), name


def strength(mark: Mark) -> tuple[bool, float]:
    """What tells which of several marks is the strongest: one that was found before one that was drawn, then height."""
    return not mark.hand.drawn, BY_NAME[mark.kind].decision.height(mark)


def join(session: Session, part_id: str, ids: Collection[str]) -> Session:
    """Several marks of one kind as one: the strongest over the time of all, what is between included.

    CallError where that would be longer than a mark of its kind can be.
    """
    marks = [m for m in session.part(part_id).marks if m.id in ids]
    start, end = min(m.span[0] for m in marks), max(m.span[1] for m in marks)
    strongest = max(marks, key=strength)
    check_length(end - start, drawn_lengths(strongest.kind))
    session = set_box(session, part_id, strongest.id, start, end, min(m.band[0] for m in marks), strongest.band[1])
    gone = {m.id for m in marks if m.id != strongest.id and m.hand.drawn}
    left = [m.id for m in marks if m.id != strongest.id and not m.hand.drawn]

    def without(part: Part) -> Part:
        return replace(part, marks=tuple(m for m in part.marks if m.id not in gone))

    return leave(with_part(session, part_id, without), part_id, left, True)


def set_shape(session: Session, part_id: str, ids: Collection[str], shape: Shape) -> Session:
    """Let the change of marks follow a curve along their time: (share of the mark, dB) added to it; () for none."""
    points = _held(shape, 0.0, 1.0, 3)
    return with_hands(session, part_id, ids, lambda m: replace(m.hand, shape=points))


def set_fades(session: Session, part_id: str, ids: Collection[str], fades_ms: tuple[float, float]) -> Session:
    """Set how long, in ms, the changes of marks take to come and to go."""
    comes, goes = (round(min(_LONGEST_FADE_MS, max(0.0, ms)), 1) for ms in fades_ms)
    return with_hands(session, part_id, ids, lambda m: replace(m.hand, fades_ms=(comes, goes)))


def give_back_endings(session: Session, part_id: str, starts: Mapping[str, float]) -> Session:
    """Let marks begin at other seconds, each by its name, with fades that are long enough for an ending."""

    def hand(mark: Mark) -> Hand:
        _, goes = mark.hand.fades_ms or (0.0, _SHORT_FADE_MS)
        return replace(mark.hand, start=round(starts[mark.id], 4), fades_ms=(_ENDING_FADE_MS, goes))

    return with_hands(session, part_id, starts, hand)


def set_curve(session: Session, part_id: str, mark: str, curve: Shape) -> Session:
    """Let the change of a mark follow a curve over frequency: (Hz, dB) added to it; () for none."""
    points = _held(curve, _LOWEST_HZ, _HIGHEST_HZ, 1)
    return with_hands(session, part_id, [mark], lambda m: replace(m.hand, curve=points))


def _held(points: Shape, low: float, high: float, digits: int) -> Shape:
    """Points in order, within what a session may hold."""
    held = ((round(min(high, max(low, at)), digits), round(min(12.0, max(-60.0, db)), 2)) for at, db in points)
    return tuple(sorted(held))[:MOST_POINTS]


def set_outline(session: Session, part_id: str, name: str, outline: Shape) -> Session:
    """Let a mark be changed within a free outline, corners in s and Hz, instead of its box."""
    return with_hands(session, part_id, [name], lambda m: replace(m.hand, outline=outline))
