"""A mark: one blemish, what was measured of it, and what is to happen to it.

Also how the marks of a new finding meet the decisions already made: what a
person set by hand always stays.
"""

from __future__ import annotations

import math
from bisect import bisect_left, bisect_right
from collections.abc import Collection
from typing import Annotated, Self

import msgspec

from isophon.core.errors import CallError
from isophon.core.ranges import MOST_POINTS, Change, Fading, Hertz, Level, Moved, Name, Seconds, Share

GONE_DB = -36.0  # a change this deep means nothing is left
MOST_TEMPO = 1.25  # as many times as long or as short a passage can be made elsewhere: a limit of ours


class Hand(msgspec.Struct, frozen=True, omit_defaults=True, gc=False):
    """What a person decided about a mark; None where nothing was.

    ``change_db``: the change; ``moved_ms``: how far a word is moved. ``leave``: keep it as sung. ``start``,
    ``end`` (s), ``low_hz``, ``high_hz``: the box drawn by hand. ``blend``: how
    much of the change is kept, 0 to 1. ``drawn``: the mark itself was made by hand. ``agreed``: what the settings
    do to it was accepted; ``masked``: it was accepted unheard, since it cannot be heard in the mix.
    ``curve``: (Hz, dB) added to the change, over frequency; ``shape``: (share of the mark, dB) added to it along its
    time; ``outline``: (s, Hz), corners of a free outline that is changed instead of the box around it; ``anchors``:
    moments of a word, and when each is to be heard, in s of the part. ``fades_ms``: how long the change takes to come
    and to go.
    """

    change_db: Moved | None = None
    moved_ms: Moved | None = None
    leave: bool = False
    start: Seconds | None = None
    end: Seconds | None = None
    low_hz: Hertz | None = None
    high_hz: Hertz | None = None
    blend: Share | None = None
    drawn: bool = False
    agreed: bool = False
    masked: bool = False
    curve: Annotated[tuple[tuple[Hertz, Change], ...], msgspec.Meta(max_length=MOST_POINTS)] = ()
    shape: Annotated[tuple[tuple[Share, Change], ...], msgspec.Meta(max_length=MOST_POINTS)] = ()
    outline: Annotated[tuple[tuple[Seconds, Hertz], ...], msgspec.Meta(max_length=MOST_POINTS)] = ()
    anchors: Annotated[tuple[tuple[Seconds, Seconds], ...], msgspec.Meta(max_length=MOST_POINTS)] = ()
    fades_ms: tuple[Fading, Fading] | None = None

    def later(self, by_s: float) -> Hand:
        """The same with all of its times later by ``by_s`` seconds."""
        return msgspec.structs.replace(
            self,
            start=None if self.start is None else self.start + by_s,
            end=None if self.end is None else self.end + by_s,
            outline=tuple((at + by_s, hz) for at, hz in self.outline),
            anchors=spans_later(self.anchors, by_s),
        )

    @property
    def any(self) -> bool:
        """Whether a person set anything."""
        return self not in (_UNTOUCHED, _AGREED, _MASKED)

    @property
    def decided(self) -> bool:
        """Whether a person set anything, or agreed."""
        return self != _UNTOUCHED


_UNTOUCHED = Hand()  # decisions: none
_AGREED = Hand(agreed=True)  # accepted
_MASKED = Hand(agreed=True, masked=True)  # accepted since it cannot be heard


class Mark(msgspec.Struct, frozen=True, omit_defaults=True, gc=False, tag_field="kind"):
    """One blemish of a part: what the marks of all kinds have. Each kind has a class of its own with what it adds.

    ``start`` and ``end`` in seconds; ``low_hz`` and ``high_hz``: the band where
    its energy lies; ``level_db``: LUFS in that band; ``standout_db``: over the
    voice around it; ``confidence``: 0 to 1; ``hand``: what a person decided.
    """

    id: Name
    start: Seconds
    end: Seconds
    level_db: Level
    standout_db: Level
    low_hz: Hertz
    high_hz: Hertz
    confidence: Share
    hand: Hand = Hand()

    @property
    def kind(self) -> str:
        """The name of its kind, by which files tell whose a mark is."""
        return str(self.__struct_config__.tag)

    @property
    def by_hand(self) -> float | None:
        """The change that a person set, in the unit of its kind; None where nobody did."""
        return self.hand.change_db

    def changed(self, change: float | None) -> Hand:
        """What is decided once a person sets its change, in the unit of its kind; None takes back what was set."""
        return msgspec.structs.replace(self.hand, change_db=change)

    def later(self, by_s: float) -> Self:
        """The same mark later by ``by_s`` seconds; a kind that adds times moves these as well."""
        hand = self.hand.later(by_s) if self.hand.any else self.hand
        return msgspec.structs.replace(self, start=self.start + by_s, end=self.end + by_s, hand=hand)

    def flaw(self) -> str:
        """What is wrong with what its kind adds, as ``field: what``; empty where nothing is."""
        moved = self.hand.anchors or self.hand.moved_ms is not None
        return f"hand.anchors: a {self.kind} is not moved" if moved else ""

    @property
    def span(self) -> tuple[float, float]:
        """Start and end in seconds, by hand where set."""
        hand = self.hand
        return (
            self.start if hand.start is None else hand.start,
            self.end if hand.end is None else hand.end,
        )

    def edges(self, edges_ms: tuple[float, float], sample_rate: int) -> tuple[int, int]:
        """How many frames its change takes to come and to go; ``edges_ms``: where no hand says otherwise."""
        comes, goes = self.hand.fades_ms or edges_ms
        return max(1, round(comes / 1000 * sample_rate)), max(1, round(goes / 1000 * sample_rate))

    @property
    def band(self) -> tuple[float, float | None]:
        """The band in Hz that a change works on; None: up to the top."""
        low = self.low_hz if self.hand.low_hz is None else self.hand.low_hz
        return low, self.hand.high_hz


def spans_later(spans: tuple[tuple[float, float], ...], by_s: float) -> tuple[tuple[float, float], ...]:
    """Spans, or pairs of moments, later by ``by_s`` seconds."""
    return tuple((start + by_s, end + by_s) for start, end in spans)


def check_length(seconds: float, lengths: tuple[float, float]) -> None:
    """Raise CallError where a mark of a kind cannot be that long; the text continues a sentence about it.

    ``lengths``: the shortest and the longest, in s.
    """
    shortest, longest = lengths
    if not shortest <= seconds <= longest:
        raise CallError(f"{_length(seconds)} were selected; it may last {_length(shortest)} to {_length(longest)}")


def check_apart(start: float, end: float, at: float, tempo: float) -> None:
    """Raise CallError where a passage cannot stand ``at`` another place; the text continues a sentence about it.

    ``tempo``: how many times as long it is there. Times in s of the song.
    """
    if not 1 / MOST_TEMPO <= tempo <= MOST_TEMPO:
        raise CallError(
            f"it would be stretched to {100 * tempo:.0f} % of its length, and 80 to 125 % is what can be done"
        )
    if at < end and at + tempo * (end - start) > start:
        raise CallError("the passage and its place overlap")


def _length(seconds: float) -> str:
    return f"{1000 * seconds:.3g} ms" if seconds < 1 else f"{seconds:.3g} s"


def mark_id(kind: str, start: float, taken: Collection[str] = ()) -> str:
    """A short name for a mark that no mark in ``taken`` has: its kind and place in ms."""
    base = f"{kind}-{round(start * 1000)}"
    name, again = base, 1
    while name in taken:
        again += 1
        name = f"{base}.{again}"
    return name


def carried_names(old: tuple[Mark, ...], new: tuple[Mark, ...]) -> tuple[Mark, ...]:
    """The new marks, each with the name of the old one of its kind that it overlaps; no name is there twice."""
    by_start = sorted(old, key=lambda m: m.span[0])
    starts = [m.span[0] for m in by_start]
    longest = max((m.span[1] - m.span[0] for m in old), default=0.0)
    result: list[Mark] = []
    used: set[str] = set()
    names = {mark.id for mark in old}
    there = {mark.id: mark for mark in old}
    for mark in new:
        same = there.get(mark.id)
        if same is not None and (same.kind, same.start, same.end) == (mark.kind, mark.start, mark.end):
            used.add(same.id)
            result.append(mark)
            continue
        near = by_start[bisect_left(starts, mark.span[0] - longest) : bisect_right(starts, mark.span[1])]
        earlier = max(
            (o for o in near if o.kind == mark.kind and o.id not in used and _overlap(o, mark) > 0),
            key=lambda o: (o.hand.any, o.hand.decided, _overlap(o, mark)),
            default=None,
        )
        if earlier is not None:
            used.add(earlier.id)
            mark = msgspec.structs.replace(mark, id=earlier.id)
        else:
            if mark.id in names:
                mark = msgspec.structs.replace(mark, id=mark_id(mark.kind, mark.start, names))
            names.add(mark.id)
        result.append(mark)
    return tuple(result)


def carry_decisions(old: tuple[Mark, ...], new: tuple[Mark, ...]) -> tuple[Mark, ...]:
    """The new marks with the old decisions, in order of time.

    A new mark that overlaps an old one of its kind takes over its name and what
    was decided by hand. An old mark that a person touched stays as it was if
    nothing was found there any more; one that nobody touched goes.
    """
    before = {mark.id: mark for mark in old}
    named = carried_names(old, new)
    result = [msgspec.structs.replace(m, hand=before[m.id].hand) if m.id in before else m for m in named]
    there = {mark.id for mark in named}
    result += [mark for mark in old if mark.hand.any and mark.id not in there]
    return tuple(sorted(result, key=lambda m: (m.start, m.id)))


def _overlap(one: Mark, other: Mark) -> float:
    (a, b), (c, d) = one.span, other.span
    if one.low_hz > other.high_hz > 0 or other.low_hz > one.high_hz > 0:
        return 0.0  # bands at the same time
    both = min(b, d) - max(a, c)
    either = max(b, d) - min(a, c)
    return both / either if either > 0 and math.isfinite(both) else 0.0


def kind_of(marks: type[Mark]) -> str:
    """The name of the kind whose marks a class holds."""
    return str(marks.__struct_config__.tag)
