"""What a kind of blemish is: a name, settings, and a few pieces that finding, rendering and reporting go through."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from operator import attrgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from isophon.core.audio.leak import Leak, Removal
from isophon.core.marks import GONE_DB, Mark
from isophon.core.passes.stage import Read, Stage, Treatment
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.passes.context import FinderContext, Recorded
    from isophon.core.session.model import Part


class Found(NamedTuple):
    """What a kind finds in a take: its marks, and what it measured of the whole (names and values)."""

    marks: tuple[Mark, ...] = ()
    measured: Mapping[str, Any] = {}


class Doubt(NamedTuple):
    """What is doubtful in what is done to a part, in words that begin no sentence, and where, in s of the part."""

    words: str
    at: tuple[float, ...] = ()


@dataclass(frozen=True, eq=False)
class Finder:
    """What a kind finds in a take.

    ``find(context)``: its marks, and what it measured; ``also(context)``: what it measures that others' findings are
    needed for; ``measures``: names of what it measures, with types and what stands for "not known". ``sung(marks)``:
    the spans (s) of its marks that are singing without a pitch; ``still(marks)``: those in which nothing sounds but the
    room. ``needs_voice``: nothing can be found without one.
    ``flaw(part)``: what is wrong with what a file tells of it (``field: what``), '' where nothing is.
    """

    find: Callable[[FinderContext], Found] = lambda _context: Found()
    also: Callable[[FinderContext], dict[str, Any]] = lambda _context: {}
    measures: Mapping[str, tuple[Any, Any]] = field(default_factory=dict)
    sung: Callable[[Sequence[Any]], Iterable[tuple[float, float]]] | None = None
    still: Callable[[Sequence[Any]], Iterable[tuple[float, float]]] | None = None
    needs_voice: bool = False
    flaw: Callable[[Part], str] = lambda _part: ""


@dataclass(frozen=True, eq=False)
class Decision:
    """What its settings make of a mark, and what a hand can.

    ``change(mark, settings, context)``: what is done to a mark, in ``unit``; ``context(part)``: what that depends on
    beside the settings. ``least``, ``most``: the lowest and the highest change that a hand can set. ``drawn_s``: the
    shortest and the longest mark that a hand can make. ``works_in(mark)``: the frequencies in Hz that a change works
    on, None: up to the top. ``height(mark)``: how far it stands out, in ``unit``.
    """

    change: Callable[[Any, Any, Any], float] = lambda _mark, _settings, _context: 0.0
    context: Callable[[Part], Any] = lambda _part: None
    unit: str = "dB"
    height: Callable[[Any], float] = attrgetter("standout_db")
    least: float = GONE_DB
    most: float = 0.0
    drawn_s: tuple[float, float] = (0.005, 86_400.0)
    works_in: Callable[[Mark], tuple[float, float | None]] = lambda mark: mark.band


def _unsure(_part: Part, mark: Mark, _survey: Survey) -> float:
    """How unsure it is that a mark is what it is taken for, in %."""
    return round(100 * (1 - mark.confidence), 1)


Removed = Callable[["Part", Any, Survey], tuple[np.ndarray, np.ndarray] | None]


@dataclass(frozen=True, eq=False)
class Risk:
    """How much may be lost of the voice by what is done to a mark.

    ``of(part, mark, survey)``: in ``unit``; from ``risky_from`` on it deserves a listen; ``words``: what it is.
    """

    of: Callable[[Part, Any, Survey], float] = _unsure
    risky_from: float = 40.0
    unit: str = "%"
    words: str = "unsure"


@dataclass(frozen=True, eq=False)
class Cure:
    """How it is treated.

    ``treatments(part)`` are done by ``stages``. ``reads``: other kinds, by name, whose marks or settings they depend
    on; ``reads_in_context``: those of which they depend on no more than the context of its decisions holds.
    ``maps(part, seconds)``: when a second of the part is heard. ``ends_s(part)``: the last second at which its marks
    let something be heard, which may lie past the end of the recording; None where it never does. ``steady(part, hz)``:
    what is done to the whole take at frequencies, dB.
    """

    treatments: Callable[[Part], Iterable[Treatment]] = lambda _part: ()
    stages: tuple[Stage, ...] = ()
    reads: tuple[str, ...] = ()
    reads_in_context: tuple[str, ...] = ()
    maps: Callable[[Part, float], float] | None = None
    ends_s: Callable[[Part], float] | None = None
    steady: Callable[[Part, np.ndarray], np.ndarray] | None = None


@dataclass(frozen=True, eq=False)
class Reporter:
    """How what was found and done is reported.

    ``row(part)``: its row in the report beside the counts of marks, None for nothing; ``steady_json(part)``: steady
    things that it treats, for ``find --json``; ``summary(part)``: a line for the terminal, or ''. ``mark_json(part,
    mark, with_lead)``: what ``find --json`` tells of a mark besides; ``rows(part, mark)``: what differs in
    each, where it takes several rows; ``extra_json(part)``: what stands beside the
    marks. ``label(mark)``: what a mark is called beside its kind, '' for nothing. ``doubts(part)``: what is doubtful in
    what it does. ``sounds_of(mark)``: what the sounds of a mark are called, '' for nothing; the proof shows spectra
    of those of one name together. ``copied_from(mark)``: the second of the part whose sound stands at a mark, None for
    its own. ``in_time``: its marks have a place in time. ``if_changed``: marks are reported only
    where something is done; ``outlined``: they are seen in every pass.
    """

    row: Callable[[Part], dict[str, Any] | None] = lambda _part: None
    steady_json: Callable[[Part], list[dict[str, Any]]] = lambda _part: []
    summary: Callable[[Part], str] = lambda _part: ""
    mark_json: Callable[[Part, Any, bool], dict[str, Any]] = lambda _part, _mark, _with_lead: {}
    rows: Callable[[Part, Any], Sequence[dict[str, Any]]] = lambda _part, _mark: ({},)
    extra_json: Callable[[Part], dict[str, Any]] = lambda _part: {}
    label: Callable[[Any], str] = lambda _mark: ""
    doubts: Callable[[Part], Sequence[Doubt]] = lambda _part: ()
    sounds_of: Callable[[Any], str] = lambda _mark: ""
    copied_from: Callable[[Any], float | None] = lambda _mark: None
    in_time: bool = True
    if_changed: bool = False
    outlined: bool = False


@dataclass(frozen=True, eq=False)
class BesideLead:
    """What it does with the lead of a stack part.

    ``meet(marks, lead_marks, later_s)``: the marks of the part with what they meet in the lead, which the part starts
    ``later_s`` after; ``met(mark)``: whether one meets any. ``find(context, lead_survey, later_s)``: what is found only
    by comparing both recordings; its marks then come from there alone.
    """

    meet: Callable[[Sequence[Mark], Sequence[Mark], float], tuple[Mark, ...]] | None = None
    met: Callable[[Any], bool] = lambda _mark: False
    find: Callable[[FinderContext, Survey, float], Found] | None = None


class Span(NamedTuple):
    """A span of a part in s in which a blemish is heard alone."""

    start: float
    end: float


@dataclass(frozen=True, eq=False)
class SpanLearning:
    """What it learns from a span of a take that a person selects.

    ``learn(recording, survey, part, span)`` gives a value of type ``learned``; InputError where the span does not do.
    ``adopt(part, span, value)``: the part with it; None for both takes it back. ``asked(part)``: the span that its
    settings name, None for none.
    """

    learned: Any
    learn: Callable[[Recorded, Survey, Part, Span], Any]
    adopt: Callable[[Part, Span | None, Any], Part]
    asked: Callable[[Part], Span | None]


@dataclass(frozen=True, eq=False)
class MarkFile:
    """Marks drawn by hand that come from a file.

    ``option``: of the command line, without its dashes; ``words``: what the file is; ``holds``: what its marks are
    called; ``read(path, duration_s)``: its marks; InputError says what is wrong and where. ``replaces``: they stand in
    place of what is found, which otherwise they are added to; where nothing is found that acts, they are needed.
    """

    option: str
    words: str
    holds: str
    read: Callable[[Path, float], tuple[Mark, ...]]
    replaces: bool = False


@dataclass(frozen=True, eq=False)
class Redrawing:
    """Marks that follow from a survey and some settings alone: drawn anew wherever these say otherwise.

    ``is_due(part)``: whether those of a part were drawn by other settings than its own; ``draw(part, survey)``: as
    they are by these. ``say(part, span, sung)``: the part once a person says that a span (s) is singing, or is not.
    """

    is_due: Callable[[Part], bool]
    draw: Callable[[Part, Survey], Found]
    say: Callable[[Part, Span, bool], Part]


@dataclass(frozen=True, eq=False)
class LeakRemoval:
    """What leaked into a take, learned from other recordings and taken out before the take is surveyed.

    ``removal(settings)``: how it is taken out; ``nudge_s(settings)``: by how much the cues were moved later by hand;
    ``moments(settings)``: the spans (s) to learn from, none for the best; ``with_moments(settings, leak)``: the
    settings once a leak was learned. ``learn(samples, rate, cues, key, tell, moments)`` and ``hits(learned, read,
    survey)``: what was learned, and its marks.
    """

    removal: Callable[[Any], Removal]
    nudge_s: Callable[[Any], float]
    moments: Callable[[Any], tuple[tuple[float, float], ...]]
    with_moments: Callable[[Any, Leak], Any]
    learn: Callable[..., Any]
    hits: Callable[[Any, Read, Survey], tuple[Mark, ...]]


@dataclass(frozen=True, eq=False)
class Kind:
    """One kind of blemish.

    ``name``: as files and the command line name it. ``settings``: a frozen struct with a default for every field; its
    annotations hold the ranges. ``role_default(role)``: what a part of a role starts with. ``mark``: what its marks
    are, None where it has none and is switched by its setting ``on``. ``after``: the kinds that are worked on before
    it. ``one_take``: settings that belong to one take alone and go into no card; ``times``: those of them that are
    moments or spans of it, in s. ``removed(part, mark, survey)``:
    what is taken away at a mark and what is left, power ``(frames, bands)`` of the survey each; None: it cannot be
    told how audible it is. ``taught``: settings that a hand's decisions may propose otherwise, those that
    belong together in one: levels in dB, and switches.
    """

    name: str
    settings: type
    role_default: Callable[[str], Any]
    mark: type[Mark] | None = None
    after: tuple[str, ...] = ()
    one_take: tuple[str, ...] = ()
    times: tuple[str, ...] = ()
    finder: Finder = Finder()
    decision: Decision = Decision()
    risk: Risk = Risk()
    removed: Removed | None = None
    taught: tuple[tuple[str, ...], ...] = ()
    cure: Cure = Cure()
    reporter: Reporter = Reporter()
    beside_lead: BesideLead = BesideLead()
    span_learning: SpanLearning | None = None
    redrawing: Redrawing | None = None
    mark_file: MarkFile | None = None
    leak_removal: LeakRemoval | None = None

    @property
    def found_in_take(self) -> bool:
        """Whether looking for its marks in the take alone finds them; others stay when that is done again."""
        return self.leak_removal is None and self.beside_lead.find is None
