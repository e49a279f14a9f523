"""What the window knows of a pass: words, shape, axis, knobs, and how its marks are drawn, handled and told.

One value a pass, made in its file under ``app/sheets``; pages and views go through the list of them and name none.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from operator import attrgetter
from typing import Any

from isophon.core.marks import Mark
from isophon.core.passes.kind import Read
from isophon.core.session.model import Part
from isophon.core.session.settings import value_range
from isophon.core.survey import Survey
from isophon.core.takes.pictures import Axis

TOP = Axis(1_800.0, 16_000.0)
Ceiling = tuple[str, str, float, bool]  # setting, words, height in dB, in force
_MINUS = "−"
_UNITS = {"_db": "dB", "_hz": "Hz", "_ms": "ms", "_s": "s"}


@dataclass(frozen=True)
class Knob:
    """A setting with a slider; its range is that of the setting. ``more``: shown on request only."""

    name: str
    words: str
    step: float
    unit: str
    tip: str
    more: bool = False

    def show(self, value: float, lowest: float = -math.inf) -> str:
        """The value with its unit."""
        if self.unit == "%":
            return f"{100 * value:.0f} %"
        if self.unit == "dB":
            text = f"{value:+.1f}".replace("-", _MINUS) if round(value, 1) else "0.0"
            return "gone" if self.name == "limit_db" and value <= lowest == -36 else f"{text} dB"
        return f"{value:.0f} {self.unit}"


SURE = Knob("sure", "Act when this sure", 0.05, "%", "Marks that are less sure are left as sung", True)


@dataclass(frozen=True, eq=False)
class Pass:
    """One pass over the parts for one kind of mark.

    ``kind``: the kind whose marks they are; ``also``: kinds without marks that are set here too. ``one``, ``many``,
    ``over_what``: its words. ``shape(x, y, size)``: a painter's path. ``ceilings(part)``; ``height(mark)``: what a
    bar's height is, in dB; ``bounds``: lowest and highest dB shown at least, and at most. ``measure``: a mark drawn
    over a span, None where none can be drawn; ``by_hand``: why its marks' changes are not set by hand, or ''.
    ``axis``: of its pictures; ``close``: of the lens, where that shows less. ``extras(workspace)``: a widget of its
    own for the sheet, see :class:`isophon.app.sheets.sheet.Extras`; ``picture(workspace)``: one that fills what is
    left. ``about(part)``: a word beside the sheet's name. ``greyed(settings)``: knobs that do nothing as things are;
    ``away(settings)``: that are not shown then. ``words``: settings that are no knobs, for the history; ``choices``:
    what the values of such a setting are called. In the lens: ``waves``: samples instead of spectra; ``around_s``:
    seconds around the mark; ``handles``: the edges that a hand drags; ``box(mark, axis)``: low and high Hz of its box;
    ``blends``: whether a change can be blended; ``over``: what the height is measured over; ``told(mark, change)``:
    what is done, in a word, or '' for the usual; ``more_told(mark)``: a last figure; ``warning(workspace, mark)``:
    what a wary eye says. ``empty(part)``: what stands in an empty skyline, '' for the usual. ``gone(part)``: the word
    for a mark that is taken out. In the trace: ``gate``: whether fades are drawn over the wave; ``near(mark, part)``:
    whether its start and end come close to a word. ``lifts``: whether what is taken out can be lifted into hearing;
    ``still``: whether parts show their stillness. ``boxes``: boxes can be drawn over the trace; ``over_frequency``:
    its marks stand over frequency, not time; ``response(part, hz)``: what is done at frequencies, in dB; ``made(part,
    hz)``: a mark made at one by hand, with ``made_db`` to begin with. ``shaped``: a mark's change can follow a line
    along its "time" or over "frequency"; ``letter(mark)``: what stands at a mark, '' for nothing.
    ``unit``: of heights and changes; ``zero``: where bars begin, None for the lowest height; ``downward``: ceilings
    whose values grow downward; ``threads``: the lead's wave stands over the part's, tied together in the
    trace; ``will_sound``: bars can be shown as they will sound after the rough chain.
    """

    kind: str
    name: str
    one: str
    many: str
    over_what: str
    shape: Callable[[float, float, float], Any]
    knobs: tuple[Knob, ...]
    bounds: tuple[float, float, float, float]
    measure: Callable[[Read, Survey, float, float], Mark] | None
    also: tuple[str, ...] = ()
    ceilings: Callable[[Part], list[Ceiling]] = lambda part: []
    height: Callable[[Mark], float] = attrgetter("standout_db")  # quicker than a function of ours
    axis: Axis = TOP
    close: Axis | None = None
    by_hand: str = ""
    extras: Callable[[Any], Any] | None = None
    picture: Callable[[Any], Any] | None = None
    about: Callable[[Part], str] = lambda part: ""
    greyed: Callable[[Any], Sequence[str]] = lambda settings: ()
    away: Callable[[Any], Sequence[str]] = lambda settings: ()
    words: dict[tuple[str, str], str] = field(default_factory=dict)
    choices: dict[tuple[str, str], dict[str, str]] = field(default_factory=dict)
    waves: bool = False
    around_s: float = 0.13
    handles: tuple[str, ...] = ("start", "end")
    box: Callable[[Mark, Axis], tuple[float, float | None]] = lambda mark, axis: mark.band
    blends: bool = False
    over: str = "over the voice"
    told: Callable[[Mark, float], str] = lambda mark, change: ""
    more_told: Callable[[Mark], str] = lambda mark: ""
    warning: Callable[[Any, Mark], str] = lambda workspace, mark: ""
    empty: Callable[[Part], str] = lambda part: ""
    gone: Callable[[Part], str] = lambda part: "gone"
    gate: bool = False
    near: Callable[[Mark, Part], tuple[bool, bool]] | None = None
    lifts: bool = False
    still: bool = False
    boxes: bool = False
    over_frequency: bool = False
    response: Callable[[Part, Any], Any] = lambda part, hz: 0.0 * hz
    made: Callable[[Part, float], Mark] | None = None
    made_db: float = 0.0
    shaped: str = ""
    letter: Callable[[Mark], str] = lambda mark: ""
    unit: str = "dB"
    zero: float | None = None
    threads: bool = False
    will_sound: bool = False
    downward: tuple[str, ...] = ()
    seen_change: Callable[[Part, Mark], float] = lambda part, mark: part.change(mark)

    @property
    def lens_axis(self) -> Axis:
        """The frequencies that the lens shows."""
        return self.close or self.axis

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds whose settings belong to this pass."""
        return (*self.also, self.kind)

    @property
    def an(self) -> str:
        """Its mark with its article."""
        return f"{'an' if self.one[0] in 'aeiou' else 'a'} {self.one}"

    def marks(self, part: Part) -> tuple[Mark, ...]:
        """The marks of this pass in a part."""
        return part.of_kind(self.kind)

    def ceiling(self, part: Part) -> float:
        """The ceiling in force."""
        return next((level for _, _, level, in_force in self.ceilings(part) if in_force), math.inf)

    def range_of(self, knob: Knob) -> tuple[float, float]:
        """The lowest and highest value of a knob: those of its setting."""
        return value_range(self.kind, knob.name)

    def words_of(self, kind: str, name: str) -> str:
        """A setting in words, for the history."""
        knobs = {(self.kind, knob.name): knob.words.lower() for knob in self.knobs}
        return (knobs | self.words).get((kind, name), name)

    def said(self, kind: str, name: str, value: float | bool | str) -> str:
        """A value of a setting in words, with its unit."""
        if isinstance(value, str):
            return self.choices.get((kind, name), {}).get(value, value)
        if isinstance(value, bool):
            return "on" if value else "off"
        knob = next((k for k in self.knobs if kind == self.kind and k.name == name), None)
        if knob:
            return knob.show(value, self.range_of(knob)[0])
        unit = next((unit for end, unit in _UNITS.items() if name.endswith(end)), "")
        return f"{value:g} {unit}".strip().replace("-", _MINUS)


def over_the_voice(kind: str) -> Callable[[Part], list[Ceiling]]:
    """The one ceiling of a kind with a setting ``ceiling_db`` over the voice."""
    return lambda part: [("ceiling_db", "ceiling over the voice", part.settings(kind).ceiling_db, True)]
