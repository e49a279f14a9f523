"""What a kind of blemish is: one value, that finding, planning, rendering, reporting and the window go through."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol

import numpy as np

from isophon.core.marks import GONE_DB, Mark
from isophon.core.survey import Survey

Read = Callable[[int, int], np.ndarray]
Sounds = tuple[np.ndarray, np.ndarray]


class Treatment(Protocol):
    """Something done to frames ``first`` to ``last`` of a take; frozen and hashable."""

    @property
    def first(self) -> int:
        """The first frame that may change."""

    @property
    def last(self) -> int:
        """The frame after the last."""


class At(NamedTuple):
    """What a stage is asked for, and what it has: frames ``start`` to ``start + frames`` of a take.

    ``read(start, frames)`` gives what the stage before left, at any place, float32 ``(channels, frames)``, zeros
    outside of the take. ``kept(key, first, last, make)``: the array that ``make`` gives, made anew only where ``key``
    or what was done before to frames ``first`` to ``last`` has changed; None where a whole take is rendered in
    order and nothing is asked for twice. ``sounds(key)``: sounds kept beside the take.
    """

    read: Read
    start: int
    frames: int
    sample_rate: int
    kept: Callable[[Any, int, int, Callable[[], np.ndarray]], np.ndarray] | None
    sounds: Callable[[str], Sounds | None]

    @property
    def stop(self) -> int:
        """The frame after the last."""
        return self.start + self.frames

    def within(self, treatment: Any) -> tuple[int, int, slice]:
        """The frames of a treatment among those that are asked for: first, the one after the last, and both there."""
        first, last = max(self.start, treatment.first), min(self.stop, treatment.last)
        return first, last, slice(first - self.start, last - self.start)

    def keep(self, key: Any, first: int, last: int, make: Callable[[], np.ndarray]) -> np.ndarray:
        """What ``make`` gives, made anew only where it must be."""
        return make() if self.kept is None else self.kept(key, first, last, make)

    def block(self) -> np.ndarray:
        """The frames as the stage before left them."""
        return self.read(self.start, self.frames)


@dataclass(frozen=True, eq=False)
class Stage:
    """A step of rendering. Pure: any span comes out as the same span of the whole.

    ``place``: where it stands among the stages, lowest first. ``treats``: the types of treatments that are its own.
    ``apply(at, mine)`` gives the frames; ``mine``: its treatments that touch them. ``reach(sample_rate)``: how far
    around a frame, in frames, it depends on what the stage before left. ``spreads``: whether what it does to any
    frame of a treatment depends on all frames of that. ``held``: whether it reads the same frames so often that what
    the stage before left is kept by tiles. ``pieces``: the last digits of its numbers depend on which frames it works
    on at once, so that these are always the same. ``slow``: it costs much and its treatments seldom change, so that it
    is rendered ahead, with all stages before it. ``elsewhere(treatment, start, stop)``: the other frames, left by the
    stage before, that a treatment makes a span of. ``still(still, mine)`` and ``heard(power, survey, mine)`` tell from
    a survey's numbers what it leaves: of the bands of the still frames, and of the K-weighted power of all frames; both
    in place.
    """

    place: int
    treats: tuple[type, ...]
    apply: Callable[[At, Sequence[Any]], np.ndarray]
    reach: Callable[[int], int] = lambda sample_rate: 0
    spreads: bool = False
    held: bool = False
    slow: bool = False
    pieces: bool = False
    elsewhere: Callable[[Any, int, int], tuple[int, int]] | None = None
    still: Callable[[Still, Sequence[Any]], None] | None = None
    heard: Callable[[np.ndarray, Survey, Sequence[Any]], None] | None = None


@dataclass(eq=False)
class Still:
    """The still frames of a survey: ``power`` ``(still, bands)`` in their bands, and which ``frames`` they are."""

    survey: Survey
    power: np.ndarray
    frames: np.ndarray

    @property
    def centres(self) -> np.ndarray:
        """The middle of each band, Hz."""
        edges = self.survey.band_edges
        return np.sqrt(edges[1:] * edges[:-1])


class Found(NamedTuple):
    """What a kind finds in a take: its marks, and what it measured of the whole (names and values)."""

    marks: tuple[Mark, ...] = ()
    measured: Mapping[str, Any] = {}


class Doubt(NamedTuple):
    """What is doubtful in what is done to a part, in words that begin no sentence, and where, in s of the part."""

    words: str
    at: tuple[float, ...] = ()


@dataclass(frozen=True, eq=False)
class Kind:
    """One kind of blemish.

    ``name``: as files and the command line name it. ``settings``: a frozen struct with a default for every field; its
    annotations hold the ranges. ``role_default(role)``: what a part of a role starts with. ``one_take``: settings
    that belong to one take alone and go into no card. ``drawn_s``: shortest and longest mark that a hand can make.
    ``marked``: whether it has marks; one without is switched by its setting ``on``. ``measures``: what its finder
    measures of a whole take, names with types and what stands for "not known". ``find(ears)``; ``also(ears)``: what
    it measures that others' findings are needed for; ``learned``: its marks come from learning, and stay when marks
    are looked for again. ``context(part)``: what the changes of a part's marks depend on beside the settings;
    ``change(mark, settings, context)``: what is done to a mark, dB. ``treatments(part)`` for the plan, done by
    ``stage``, and others of its stages that come ``later``. ``report(part)``: its row in the report beside the counts
    of marks, None for nothing; ``rows(part)``: steady things it treats, for ``find --json``; ``told(part)``: a line
    for the terminal, or ''. ``flaw(part)``: what is wrong with what a file tells of it (``field: what``).
    ``meets(marks, lead_marks, later_s)``: the marks of a stack part with what they meet in the lead;
    ``against(ears, lead_survey, later_s)``: what is found in a stack part only by hearing the lead beside it.
    ``placed``: its marks have a place in time. ``least_db``, ``most_db``: the lowest and the highest change that a
    hand can make. ``tells(part, mark)``: what ``find --json`` tells of a mark besides; ``adds(part)``: and what stands
    beside the marks. ``maps(part, seconds)``: when a second of the part is heard. ``quiet``: its marks are told
    only where something is done; ``outlined``: they are seen in every pass. ``needs_voice``: nothing can be told of
    it without one. ``doubts(part)``: what is doubtful in what it does. ``sounds_of(mark)``: what the sounds of a mark
    are called, '' for nothing; the proof shows spectra of those of one name together. ``works_in(mark)``: the
    frequencies in Hz that a change of a mark works on, None: up to the top. ``reads``: other kinds, by name, whose
    marks or settings its treatments depend on. ``steady(part, hz)``: what it does to the whole take at frequencies, dB.
    """

    name: str
    settings: type
    role_default: Callable[[str], Any]
    stage: Stage | None = None
    treatments: Callable[[Any], Iterable[Treatment]] = lambda part: ()
    find: Callable[[Any], Found] = lambda ears: Found()
    also: Callable[[Any], dict[str, Any]] = lambda ears: {}
    marked: bool = True
    learned: bool = False
    context: Callable[[Any], Any] = lambda part: None
    change: Callable[[Mark, Any, Any], float] = lambda mark, settings, context: 0.0
    one_take: tuple[str, ...] = ()
    drawn_s: tuple[float, float] = (0.005, 86_400.0)
    measures: Mapping[str, tuple[Any, Any]] = field(default_factory=dict)
    report: Callable[[Any], dict[str, Any] | None] = lambda part: None
    rows: Callable[[Any], list[dict[str, Any]]] = lambda part: []
    told: Callable[[Any], str] = lambda part: ""
    flaw: Callable[[Any], str] = lambda part: ""
    later: tuple[Stage, ...] = ()
    meets: Callable[[Sequence[Mark], Sequence[Mark], float], tuple[Mark, ...]] | None = None
    placed: bool = True
    against: Callable[[Any, Any, float], Found] | None = None
    least_db: float = GONE_DB
    most_db: float = 0.0
    tells: Callable[[Any, Mark], dict[str, Any]] = lambda part, mark: {}
    adds: Callable[[Any], dict[str, Any]] = lambda part: {}
    maps: Callable[[Any, float], float] | None = None
    quiet: bool = False
    outlined: bool = False
    needs_voice: bool = False
    doubts: Callable[[Any], Sequence[Doubt]] = lambda part: ()
    sounds_of: Callable[[Mark], str] = lambda mark: ""
    works_in: Callable[[Mark], tuple[float, float | None]] = lambda mark: mark.band
    reads: tuple[str, ...] = ()
    steady: Callable[[Any, np.ndarray], np.ndarray] | None = None


def touching(treatments: Sequence[Any], start: int, stop: int) -> list[Any]:
    """The treatments (in order of their first frame) that change a frame of a span."""
    end = bisect_left(treatments, stop, key=lambda t: t.first)
    return [t for t in treatments[:end] if t.last > max(start, t.first)]
