"""From words and how late they are to a map of time, and from that to what is done to the samples.

The moments that matter (starts and ends of words, consonants inside them) are moved unchanged with what is around them;
what lies between takes up the difference, pauses and steady vowels alike, between 0.7 and 1.4 of its length in a word.
What cannot be moved as far as it should is moved as far as it can be.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from isophon.core.passes.timing.mark import WordMark
from isophon.core.passes.timing.settings import LEAST_MS, move_of
from isophon.core.passes.timing.stretch import Moved

if TYPE_CHECKING:
    from isophon.core.session.model import Part

SHORTEST, LONGEST = 0.7, 1.4  # of a stretch of a word
# s before and after a moment that move with it, so that consonants are not stretched
_AROUND_S = {"start": (0.025, 0.03), "inner": (0.015, 0.035), "end": (0.02, 0.015)}
_MOST_STRETCH = 0.2  # of the time between two moments that is stretched or shortened
_STRETCH_SLACK_S = 0.008  # s more than that
_LEAST_BETWEEN_S = 0.03  # s between what moves as one piece
_LEAST_PAUSE_S = 0.02  # s: a piece is not shorter
_SHORTEST_S = 0.005  # between two moments; less is no sound of its own that could be made longer
_SHORT_END_S = 0.05  # before the first or after the last moment: too short to be made longer out of itself
_PAUSE_S = 0.06  # what is shorter between two words is sung through
_LEAD_IN_S = 0.15  # s before the first and after the last moment in which the take comes back into its own time
_ROUNDS = 4  # times that limits are applied in turn, until all hold
_KEPT = "_time_map"
_ON_THE_WAY_S = 0.008  # an inner moment that would come out so near anyway is left to its neighbours


class Moment(NamedTuple):
    """A moment of the part, moved by ``move`` s, whole from ``first`` to ``last``.

    ``paused``: a pause follows; ``fixed``: it stays, whatever is beside it; ``ends``: it is the end of a word.
    """

    first: float
    last: float
    move: float
    paused: bool
    fixed: bool = False
    ends: bool = False


def moments_of(part: Part) -> list[Moment]:
    """The moments of a part's words in order, those that stay included; none where nothing moves."""
    words = sorted((m for m in part.of(WordMark) if _moments(m)), key=lambda m: m.start)
    moments: list[Moment] = []
    for i, word in enumerate(words):
        after = _moments(words[i + 1])[0] if i + 1 < len(words) else part.source.duration
        before = _moments(words[i - 1])[-1] if i else 0.0
        first, last = _moments(word)[0], _moments(word)[-1]
        near = min(after - last, first - before) < _PAUSE_S
        if near and not _is_placed(word, part) and not word.hand.leave:
            continue  # it goes along with the word that it hangs on
        moments += _of_word(word, part, after - last >= _PAUSE_S)
    if not any(m.move for m in moments):
        return []
    return _fitted(_apart(moments), part.source.duration)


def _moments(word: WordMark) -> list[float]:
    """The moments of a word that matter, by hand where set."""
    return [at for at, _ in word.hand.anchors or word.anchors]


def _of_word(word: WordMark, part: Part, paused: bool) -> list[Moment]:
    settings, hand = part.timing, word.hand
    start_move = part.change(word) / 1000
    by_hand = hand.moved_ms is not None and not hand.leave
    placed = _is_placed(word, part)
    if not placed:
        moves = [0.0] * len(_moments(word))
    elif hand.anchors:
        shift = start_move - (hand.anchors[0][1] - hand.anchors[0][0])
        moves = [to_s - at + shift for at, to_s in hand.anchors]
    else:
        wanted = [move_of(1000 * (a - b), settings) / 1000 for a, b in word.anchors]
        shift = start_move - wanted[0] if by_hand else 0.0
        moves = whole_moves(_moments(word), [start_move, *(w + shift for w in wanted[1:])])
        if not settings.ends and len(moves) > 1:
            moves[-1] = moves[-2] if len(moves) > 2 else start_move
    tied_moments = list(zip(_moments(word), moves, strict=True))
    tied_moments = tied_moments if hand.anchors else _thinned(tied_moments)
    result = []
    for place, (moment, move) in enumerate(tied_moments):
        what = "start" if place == 0 else "end" if place == len(tied_moments) - 1 else "inner"
        before, after = _AROUND_S[what]
        move = move if abs(1000 * move) >= LEAST_MS else 0.0
        fixed, ends = not placed or bool(hand.anchors and not move), what == "end"
        result.append(Moment(moment - before, moment + after, move, ends and paused, fixed, ends))
    return result


def whole_moves(moments: Sequence[float], moves: Sequence[float]) -> list[float]:
    """The moves of a word's moments, s, none of which asks for a stretch of more than a fifth.

    Where one would, what follows goes along with what is before it, and the pauses around the word take up the rest.
    """
    result = [moves[0]]
    for (before, at), move in zip(itertools.pairwise(moments), moves[1:], strict=True):
        asks_too_much = abs(move - result[-1]) > _MOST_STRETCH * (at - before) + _STRETCH_SLACK_S
        result.append(result[-1] if asks_too_much else move)
    return result


def goes_whole(word: WordMark, part: Part) -> bool:
    """Whether what the lead has of a word asks for more stretch than is done, so that it is moved as a whole."""
    if word.hand.anchors or not word.anchors or not part.change(word):
        return False
    wanted = [move_of(1000 * (a - b), part.timing) / 1000 for a, b in word.anchors]
    return whole_moves([a for a, _ in word.anchors], wanted) != wanted


def _is_placed(word: WordMark, part: Part) -> bool:
    """Whether a word has a place beside the lead's, found or by hand."""
    sure = part.timing.on and word.confidence >= part.timing.sure
    return not word.hand.leave and (sure or word.hand.moved_ms is not None or bool(word.hand.anchors))


def _thinned(moments: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """A word's moments without the inner ones that come out right by themselves."""
    tied_moments = list(moments)
    at = 1
    while at < len(tied_moments) - 1:
        (t0, m0), (t, m), (t1, m1) = tied_moments[at - 1 : at + 2]
        if abs(m0 + (m1 - m0) * (t - t0) / (t1 - t0) - m) < _ON_THE_WAY_S:
            tied_moments.pop(at)
        else:
            at += 1
    return tied_moments


def _apart(moments: list[Moment]) -> list[Moment]:
    """Moments that do not overlap; where there is no room for both, the start of a word counts more than the end of
    the one before it, and one that stays more than one that moves."""
    result: list[Moment] = []
    for moment in moments:
        while result and moment.first - result[-1].last < _LEAST_BETWEEN_S:
            middle = (result[-1].last + moment.first) / 2
            before = result[-1]._replace(last=middle - _LEAST_BETWEEN_S / 2)
            after = moment._replace(first=middle + _LEAST_BETWEEN_S / 2)
            if min(before.last - before.first, after.last - after.first) >= _LEAST_PAUSE_S:
                result[-1] = before
                result.append(after)
                break
            if result[-1].fixed > moment.fixed or not (result[-1].ends or moment.fixed):
                break  # what is there already stays
            result.pop()
        else:
            result.append(moment)
    return result


def _fitted(moments: list[Moment], duration: float) -> list[Moment]:
    """The moves as far as what lies between can take them up."""
    moves = np.array([m.move for m in moments])
    gaps = [b.first - a.last for a, b in itertools.pairwise(moments)]
    for _ in range(_ROUNDS):
        for i in [*range(len(gaps)), *range(len(gaps) - 1, -1, -1)]:
            low, high = _room(moments[i], gaps[i])
            over = moves[i + 1] - moves[i]
            apart = over - min(high, max(low, over))
            if apart and not moments[i].fixed:
                moves[i] += apart  # what came before gives way
            elif apart and not moments[i + 1].fixed:
                moves[i + 1] -= apart
    moves[0] = max(moves[0], -max(0.0, moments[0].first - _LEAST_PAUSE_S))
    moves[-1] = min(moves[-1], max(0.0, duration - moments[-1].last - _LEAST_PAUSE_S))
    return [m._replace(move=float(move)) for m, move in zip(moments, moves, strict=True)]


def _room(moment: Moment, gap: float) -> tuple[float, float]:
    """By how much what follows a moment can get shorter (negative) and longer, s."""
    if moment.paused:
        return -(gap - _LEAST_PAUSE_S), float("inf")
    return (SHORTEST - 1) * gap, (LONGEST - 1) * gap


def edges_of(part: Part) -> list[tuple[float, float]]:
    """The map from the part's time to the song's: (from, to) in s, strictly rising; empty where nothing moves."""
    if _KEPT not in part.__dict__:  # a part is a value: its map is worked out once
        part.__dict__[_KEPT] = _map_of(moments_of(part), part)
    return part.__dict__[_KEPT]


def _map_of(moments: list[Moment], part: Part) -> list[tuple[float, float]]:
    if not moments:
        return []
    first, duration = moments[0], part.source.duration
    edges = [(0.0, 0.0)]
    lead_in = first.first - abs(first.move) - _LEAD_IN_S
    if lead_in > 0.01:
        edges.append((lead_in, lead_in))
    for moment in moments:
        edges += [(moment.first, moment.first + moment.move), (moment.last, moment.last + moment.move)]
    lead_out = moments[-1].last + abs(moments[-1].move) + _LEAD_IN_S
    if lead_out < duration - 0.01:
        edges.append((lead_out, lead_out))
    edges.append((duration, duration))
    rising = [edges[0]]
    for a, b in edges[1:]:
        at_an_end = rising[-1][0] == 0 or a == duration
        least = 1e-4 if at_an_end else _SHORTEST_S
        if a > rising[-1][0] + least and b > rising[-1][1] + 1e-4:
            rising.append((a, b))
    return [(round(a, 5), round(b, 5)) for a, b in rising]


def treatments(part: Part) -> Iterator[Moved]:
    """What is done to a part: stretches that are moved unchanged, and those between that take up the difference."""
    rate, frames = part.source.sample_rate, part.source.frames
    edges = [(round(a * rate), round(a * rate) + round((b - a) * rate)) for a, b in edges_of(part)]
    for (a, out_a), (b, out_b) in itertools.pairwise(edges):
        b, out_b = min(b, frames), min(out_b, frames)
        if not (out_b > out_a and b > a and (a != out_a or b != out_b)):
            continue
        longer = (out_b - out_a) - (b - a)
        if longer > 0 and b - a < _SHORT_END_S * rate and (a == 0 or b == frames):
            a, b = (a - longer, b) if a == 0 else (a, b + longer)  # silence beyond the take instead of a buzz
        yield Moved(out_a, out_b, a, b - a)


def moved(part: Part, seconds: float) -> float:
    """When a second of the part is heard, in s."""
    edges = edges_of(part)
    return mapped(edges, [seconds])[0]


def mapped(edges: Sequence[tuple[float, float]], seconds: Any) -> list[float]:
    if not edges:
        return [float(t) for t in seconds]
    return [float(t) for t in np.interp(seconds, [a for a, _ in edges], [b for _, b in edges])]
