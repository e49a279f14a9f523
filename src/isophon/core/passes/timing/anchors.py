"""The moments by which a word is moved, by hand: dragged, made, taken away, made to stay.

The first change of a word takes over all its moments as they are heard; from then on they are those of the hand.
"""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from isophon.core.errors import CallError
from isophon.core.passes.timing.mark import WordMark
from isophon.core.passes.timing.settings import MOST_MS

if TYPE_CHECKING:
    from isophon.core.session.model import Part

Anchors = tuple[tuple[float, float], ...]

_APART_S = 0.02  # two moments of a word are further apart
_DIGITS = 4  # of a second that are kept: 0.1 ms


def anchors_of(part: Part, mark: WordMark) -> Anchors:
    """The moments of a word and when each is heard, s of the part; of one that the lead does not sing, its ends."""
    if mark.hand.anchors and mark.hand.moved_ms is None:
        return mark.hand.anchors
    moments = [at for at, _ in mark.hand.anchors or mark.anchors] or list(mark.span)
    return tuple((round(at, _DIGITS), round(part.heard_at(at), _DIGITS)) for at in moments)


def with_moved(part: Part, mark: WordMark, index: int, to_s: float) -> Anchors:
    """With a moment that is heard at ``to_s`` (s), as far as its neighbours and the longest move allow."""
    anchors = anchors_of(part, mark)
    at, now = anchors[index]
    most = MOST_MS / 1000
    low = max(at - most, anchors[index - 1][1] + _APART_S if index else 0.0)
    high = min(at + most, anchors[index + 1][1] - _APART_S if index + 1 < len(anchors) else part.source.duration)
    to_s = round(min(max(to_s, low), high), _DIGITS) if low <= high else now
    return (*anchors[:index], (at, to_s), *anchors[index + 1 :])


def with_one_more(part: Part, mark: WordMark, at: float) -> Anchors:
    """With a moment at ``at`` (s), heard where it is heard now; CallError where another one is too near."""
    one = round(at, _DIGITS), round(part.heard_at(at), _DIGITS)
    more = tuple(sorted((*anchors_of(part, mark), one)))
    if any(min(b[0] - a[0], b[1] - a[1]) < _APART_S for a, b in pairwise(more)):
        raise CallError("another anchor is too near")
    return more


def without(part: Part, mark: WordMark, index: int) -> Anchors:
    """Without a moment; of a word that has none any more the moves are those that were found."""
    anchors = anchors_of(part, mark)
    return anchors[:index] + anchors[index + 1 :]


def with_pinned(part: Part, mark: WordMark, index: int) -> Anchors:
    """With a moment that stays where it was sung."""
    return with_moved(part, mark, index, anchors_of(part, mark)[index][0])
