"""What the window knows of a pass: a few pieces, one for each place where it is seen.

One value a pass, made in its file under ``app/sheets``; pages and views go through the list of them and name none.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from operator import attrgetter
from typing import Any, Protocol

from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.passes.stage import Read
from isophon.core.session.model import Part
from isophon.core.session.settings import value_range
from isophon.core.survey import Survey
from isophon.core.takes.pictures import Axis

TOP = Axis(1_800.0, 16_000.0)
Anchors = tuple[tuple[float, float], ...]
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


SURE = Knob("sure", "Minimum confidence", 0.05, "%", "Marks that are less sure are left as sung", True)


class AnchorTools(Protocol):
    """How moments by which a mark is moved are changed by hand; CallError where that cannot be."""

    def anchors_of(self, part: Part, mark: Any) -> Anchors:
        """The moments of a mark and when each is heard, s of the part."""

    def with_moved(self, part: Part, mark: Any, index: int, to_s: float) -> Anchors:
        """Those with one that is heard at another second."""

    def with_one_more(self, part: Part, mark: Any, at: float) -> Anchors:
        """Those with one more."""

    def without(self, part: Part, mark: Any, index: int) -> Anchors:
        """Those without one."""

    def with_pinned(self, part: Part, mark: Any, index: int) -> Anchors:
        """Those with one that stays where it was sung."""


@dataclass(frozen=True, eq=False)
class Limits:
    """A band that a pass listens to.

    ``of(part)``: its edges in Hz, None for none; ``move(workspace, low, high, gesture)`` sets them.
    """

    of: Callable[[Part], tuple[float, float] | None]
    move: Callable[[Any, float, float, object], None]


@dataclass(frozen=True, eq=False)
class Words:
    """What a pass calls things.

    ``one``, ``many``: its marks; ``over_what``: what stands after them over the skyline; ``over``: what the height is
    measured over; ``in_time``: the line over the skyline and ``over`` while marks stand in time that otherwise do not;
    ``gone(part)``: the word for a mark that is taken out; ``told(mark, change)``: what is done, in a
    word, or '' for the usual; ``more_words(workspace, mark)``: what is said last; ``warning(workspace, mark)``: what is
    doubtful;
    ``about(part)``: a word beside the sheet's name; ``empty(part)``: what stands in an empty skyline, '' for the
    usual; ``letter(mark)``: what stands at a mark, '' for nothing; ``first_look``: what to look at, and which key, for
    somebody who has decided nothing there yet.
    """

    one: str
    many: str
    over_what: str
    over: str = "over the voice"
    in_time: tuple[str, str] = ("", "")
    gone: Callable[[Part], str] = lambda _part: "gone"
    change_words: Callable[[Mark, float], str] = lambda _mark, _change: ""
    more_words: Callable[[Any, Any], str] = lambda _workspace, _mark: ""
    warning: Callable[[Any, Any], str] = lambda _workspace, _mark: ""
    about: Callable[[Part], str] = lambda _part: ""
    empty: Callable[[Part], str] = lambda _part: ""
    letter: Callable[[Any], str] = lambda _mark: ""
    first_look: str = ""


@dataclass(frozen=True, eq=False)
class Controls:
    """Its sheet.

    ``knobs``: settings with sliders; ``greyed(settings)``: those that do nothing as things are; ``away(settings)``:
    those that are not shown then. ``setting_words``: settings that are no knobs, for the history; ``choices``: what the
    values of such a setting are called. ``extras(workspace)``: a widget of its own, see
    :class:`isophon.app.sheets.sheet.Extras`; ``picture(workspace)``: one that fills what is left.
    """

    knobs: tuple[Knob, ...]
    greyed: Callable[[Any], Sequence[str]] = lambda _settings: ()
    away: Callable[[Any], Sequence[str]] = lambda _settings: ()
    setting_words: dict[tuple[str, str], str] = field(default_factory=dict)
    choices: dict[tuple[str, str], dict[str, str]] = field(default_factory=dict)
    extras: Callable[[Any], Any] | None = None
    picture: Callable[[Any], Any] | None = None


@dataclass(frozen=True, eq=False)
class SkylineView:
    """Its skyline.

    ``bounds``: lowest and highest height shown at least, and at most; ``ceilings(part)``; ``height(mark)``: of a bar;
    ``zero``: where bars begin, None for the lowest height; ``downward``: ceilings whose values grow downward;
    ``over_frequency``: its marks (those of ``each(part)``) stand over frequency, not time, but for what
    ``in_time(part, mark)`` gives while a mark is selected; ``will_sound``: bars can be shown as they will sound
    after the rough chain; ``seen_change(part, mark)``: how far a bar comes down; ``partner_height(mark)``: of what it
    meets in the lead, None for nothing.
    """

    bounds: tuple[float, float, float, float]
    ceilings: Callable[[Part], list[Ceiling]] = lambda _part: []
    height: Callable[[Any], float] = attrgetter("standout_db")  # quicker than a function of ours
    zero: float | None = None
    downward: tuple[str, ...] = ()
    over_frequency: bool = False
    in_time: Callable[[Part, Any], tuple[Mark, ...]] = lambda _part, _mark: ()
    each: Callable[[Part], tuple[Mark, ...]] | None = None
    will_sound: bool = False
    seen_change: Callable[[Part, Any], float] = lambda part, mark: part.change(mark)
    partner_height: Callable[[Any], float | None] = lambda _mark: None


@dataclass(frozen=True, eq=False)
class LensView:
    """Its lens.

    ``close``: the frequencies shown, where that is less than the map shows; ``waves``: samples instead of spectra;
    ``around_s``: seconds around the mark; ``box(mark, axis)``: low and high Hz of its box; ``blends``: whether a change
    can be blended.
    """

    close: Axis | None = None
    waves: bool = False
    around_s: float = 0.13
    box: Callable[[Mark, Axis], tuple[float, float | None]] = lambda mark, _axis: mark.band
    blends: bool = False


@dataclass(frozen=True, eq=False)
class TraceView:
    """Its wave and map.

    ``axis``: of the map; ``draw(painter, ground)``: what else is drawn over both, see
    :class:`isophon.app.views.ground.Ground`; ``draws_in_hand``: whether that shows the selected mark; ``high``: whether
    the wave takes more room for it. ``anchors``: how moments by which marks are moved are changed by hand;
    ``limits``: a band that it listens to. ``lifts``: whether what is taken out can be lifted into hearing; ``still``:
    whether parts show their noise floor.
    """

    axis: Axis = TOP
    draw: Callable[[Any, Any], None] | None = None
    draws_in_hand: bool = False
    high: bool = False
    anchors: AnchorTools | None = None
    limits: Limits | None = None
    lifts: bool = False
    still: bool = False


@dataclass(frozen=True, eq=False)
class HandTools:
    """What a hand can do.

    ``measure``: a mark drawn over a span, None where none can be drawn; ``handles``: the edges of a mark that can be
    dragged; ``by_hand``: why its marks' changes are not set by hand, or ''; ``boxes``: boxes can be drawn over the map;
    ``response(part, hz)``: what is done at frequencies, in dB; ``made(part, hz)``: a mark made at one, with ``made_db``
    to begin with; ``shaped``: a change can follow a line along "time" or over "frequency". ``fades(part)``: how long
    changes take to come and to go, in ms, where no hand says otherwise; ``ending(survey, mark)``: the second up to
    which the sound before a mark goes on in it.
    """

    measure: Callable[[Read, Survey, float, float], Mark] | None = None
    handles: tuple[str, ...] = ("start", "end")
    by_hand: str = ""
    boxes: bool = False
    response: Callable[[Part, Any], Any] = lambda _part, hz: 0.0 * hz
    made: Callable[[Part, float], Mark] | None = None
    made_db: float = 0.0
    shaped: str = ""
    fades: Callable[[Part], tuple[float, float]] | None = None
    ending: Callable[[Survey, Any], float] | None = None


@dataclass(frozen=True, eq=False)
class Pass:
    """One pass over the parts for one kind of mark.

    ``kind``: the kind whose marks they are; ``also``: other kinds that are set here too. ``shape(x, y, size)``: a
    painter's path.
    """

    kind: str
    name: str
    shape: Callable[[float, float, float], Any]
    words: Words
    controls: Controls
    skyline: SkylineView
    lens: LensView = LensView()
    trace: TraceView = TraceView()
    hand: HandTools = HandTools()
    also: tuple[str, ...] = ()

    @property
    def unit(self) -> str:
        """The unit of heights and changes."""
        return BY_NAME[self.kind].decision.unit

    @property
    def lens_axis(self) -> Axis:
        """The frequencies that the lens shows."""
        return self.lens.close or self.trace.axis

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds whose settings belong to this pass."""
        return (*self.also, self.kind)

    @property
    def an(self) -> str:
        """Its mark with its article."""
        return f"{'an' if self.words.one[0] in 'aeiou' else 'a'} {self.words.one}"

    def marks(self, part: Part) -> tuple[Mark, ...]:
        """The marks of this pass in a part."""
        return part.of_kind(self.kind)

    def ceiling(self, part: Part) -> float:
        """The ceiling in force."""
        return next((level for _, _, level, in_force in self.skyline.ceilings(part) if in_force), math.inf)

    def range_of(self, knob: Knob) -> tuple[float, float]:
        """The lowest and highest value of a knob: those of its setting."""
        return value_range(self.kind, knob.name)

    def words_of(self, kind: str, name: str) -> str:
        """A setting in words, for the history."""
        knobs = {(self.kind, knob.name): knob.words.lower() for knob in self.controls.knobs}
        return (knobs | self.controls.setting_words).get((kind, name), name)

    def said(self, kind: str, name: str, value: Any) -> str:
        """A value of a setting in words, with its unit."""
        if isinstance(value, str):
            return self.controls.choices.get((kind, name), {}).get(value, value)
        if isinstance(value, bool):
            return "on" if value else "off"
        if not isinstance(value, int | float):
            return f"{len(value)} chosen" if value else "none"
        knob = next((k for k in self.controls.knobs if kind == self.kind and k.name == name), None)
        if knob:
            return knob.show(value, self.range_of(knob)[0])
        unit = next((unit for end, unit in _UNITS.items() if name.endswith(end)), "")
        return f"{value:g} {unit}".strip().replace("-", _MINUS)


def over_the_voice(kind: str) -> Callable[[Part], list[Ceiling]]:
    """The one ceiling of a kind with a setting ``ceiling_db`` over the voice."""
    return lambda part: [("ceiling_db", "ceiling over the voice", part.settings(kind).ceiling_db, True)]
