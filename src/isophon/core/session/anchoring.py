"""The moments by which a word is moved, by hand: dragged, made, taken away, made to stay. Pure edits.

The first edit of a word takes over all its moments as they are heard; from then on they are those of the hand.
"""

from __future__ import annotations

from itertools import pairwise

from msgspec.structs import replace

from isophon.core.errors import CallError
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.session.edits import with_hands
from isophon.core.session.model import Part, Session

Anchors = tuple[tuple[float, float], ...]

_APART_S = 0.02  # two moments of a word are further apart
_DIGITS = 4


def anchors_of(part: Part, mark: Mark) -> Anchors:
    """The moments of a word and when each is heard, s of the part; of one that the lead does not sing, its ends."""
    if mark.hand.anchors and mark.hand.change_db is None:
        return mark.hand.anchors
    moments = [at for at, _ in mark.hand.anchors or mark.anchors] or list(mark.span)
    return tuple((round(at, _DIGITS), round(part.heard_at(at), _DIGITS)) for at in moments)


def move_anchor(session: Session, part_id: str, name: str, index: int, heard: float) -> Session:
    """Let a moment of a word be heard at ``heard`` (s), as far as its neighbours and the longest move allow."""
    part, mark, anchors = _of(session, part_id, name)
    at, now = anchors[index]
    most = BY_NAME[mark.kind].most_db / 1000
    low = max(at - most, anchors[index - 1][1] + _APART_S if index else 0.0)
    high = min(at + most, anchors[index + 1][1] - _APART_S if index + 1 < len(anchors) else part.source.duration)
    heard = round(min(max(heard, low), high), _DIGITS) if low <= high else now
    return _with(session, part_id, name, (*anchors[:index], (at, heard), *anchors[index + 1 :]))


def add_anchor(session: Session, part_id: str, name: str, at: float) -> Session:
    """Make a moment of a word at ``at`` (s), heard where it is heard now; CallError where another one is too near."""
    part, _, anchors = _of(session, part_id, name)
    more = tuple(sorted((*anchors, (round(at, _DIGITS), round(part.heard_at(at), _DIGITS)))))
    if any(min(b[0] - a[0], b[1] - a[1]) < _APART_S for a, b in pairwise(more)):
        raise CallError("another anchor is too near")
    return _with(session, part_id, name, more)


def remove_anchor(session: Session, part_id: str, name: str, index: int) -> Session:
    """Take a moment of a word away; without any the word is moved as it was found."""
    _, _, anchors = _of(session, part_id, name)
    return _with(session, part_id, name, anchors[:index] + anchors[index + 1 :])


def pin_anchor(session: Session, part_id: str, name: str, index: int) -> Session:
    """Let a moment of a word stay where it was sung."""
    _, _, anchors = _of(session, part_id, name)
    return move_anchor(session, part_id, name, index, anchors[index][0])


def _of(session: Session, part_id: str, name: str) -> tuple[Part, Mark, Anchors]:
    part = session.part(part_id)
    mark = part.mark(name)
    if mark is None:
        raise CallError("the word is not there any more")
    return part, mark, anchors_of(part, mark)


def _with(session: Session, part_id: str, name: str, anchors: Anchors) -> Session:
    return with_hands(session, part_id, [name],
                      lambda m: replace(m.hand, anchors=anchors, change_db=None, leave=False))  # fmt: skip
