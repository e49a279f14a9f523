"""The passes as the window shows them: their words, the height of their bars, their ceilings and settings."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtGui import QPainterPath

from isophon.app import theme
from isophon.core.marks import Mark
from isophon.core.passes.breaths.find import measured as measured_breath
from isophon.core.passes.esses.find import measure as measure_ess
from isophon.core.passes.esses.settings import ceiling_over_voice
from isophon.core.passes.gaps.find import measured as measured_gap
from isophon.core.passes.pops.find import drawn as drawn_pop
from isophon.core.passes.ticks.find import Read
from isophon.core.passes.ticks.find import drawn as drawn_tick
from isophon.core.pictures import LOWS, Axis
from isophon.core.session.model import Part
from isophon.core.survey import Survey

_TOP = Axis(1_800.0, 16_000.0)
Ceiling = tuple[str, str, float, bool]  # setting, words, height in dB, in force


@dataclass(frozen=True)
class Knob:
    """A setting with a slider. ``more``: shown on request only."""

    name: str
    words: str
    low: float
    high: float
    step: float
    unit: str
    tip: str
    more: bool = False

    def show(self, value: float) -> str:
        """The value with its unit."""
        if self.unit == "%":
            return f"{100 * value:.0f} %"
        if self.unit == "dB":
            return "gone" if self.name == "limit_db" and value <= self.low == -36 else f"{theme.signed(value)} dB"
        return f"{value:.0f} {self.unit}"


@dataclass(frozen=True)
class Pass:
    """One pass over the parts for one kind of mark."""

    kind: str
    name: str
    one: str
    many: str
    over_what: str
    shape: Callable[[float, float, float], QPainterPath]
    knobs: tuple[Knob, ...]
    ceilings: Callable[[Part], list[Ceiling]]
    height: Callable[[Mark], float]
    bounds: tuple[float, float, float, float]  # lowest and highest dB shown at least, and at most
    measure: Callable[[Read, Survey, float, float], Mark] | None
    also: tuple[str, ...] = ()  # kinds without marks that are set here too
    axis: Axis = _TOP  # of its pictures

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds whose settings belong to this pass."""
        return (*self.also, self.kind)

    def marks(self, part: Part) -> tuple[Mark, ...]:
        """The marks of this pass in a part."""
        return part.of_kind(self.kind)

    def ceiling(self, part: Part) -> float:
        """The ceiling in force."""
        return next((level for _, _, level, in_force in self.ceilings(part) if in_force), math.inf)


def _ess_ceilings(part: Part) -> list[Ceiling]:
    over_voice, usual = part.ess.ceiling_db, part.usual
    if usual is None:
        return [("ceiling_db", "ceiling over the voice", over_voice, True)]
    over_usual = usual + part.ess.usual_db
    lowest = ceiling_over_voice(part.ess, usual)
    return [
        ("ceiling_db", "ceiling over the voice", over_voice, lowest == over_voice),
        ("usual_db", "over the singer’s usual", over_usual, lowest != over_voice),
    ]


def _drawn_ess(read: Read, survey: Survey, start: float, end: float) -> Mark:
    level, standout, low, high, sound = measure_ess(survey, start, end)
    return Mark("", "ess", start, end, level, standout, low, high, 1.0, sound)


_SURE = Knob("sure", "Act when this sure", 0, 1, 0.05, "%", "Marks that are less sure are left as sung", True)

FLOOR = Pass(
    "gap", "Floor", "gap", "gaps", "in dB over the room", theme.gap_shape,
    (
        Knob("floor_db", "Act when over the room", 0, 40, 0.5, "dB",
             "Gaps in which nothing stands this far over the room are left as they are"),
        Knob("after_ms", "Kept after a word", 0, 500, 5, "ms", "The tail of a word that stays untouched"),
        Knob("before_ms", "Kept before a word", 0, 300, 5, "ms", "The soft start of a word that stays untouched"),
        Knob("down_db", "Turned down by", -36, 0, 1, "dB", "Where gaps are turned down, by how much", True),
        Knob("least_ms", "Shortest gap", 50, 2_000, 10, "ms", "Shorter gaps are left as they are", True),
        Knob("closes_ms", "Closes in", 2, 800, 1, "ms", "How long the change takes to come after a word", True),
        Knob("opens_ms", "Opens in", 2, 200, 1, "ms", "How long the change takes to go before the next word", True),
    ),
    lambda part: [("floor_db", "floor over the room", part.gap.floor_db, True)],
    lambda mark: mark.over_room_db, (0.0, 18.0, 0.0, 60.0), lambda read, s, a, b: measured_gap(s, a, b),
    ("rumble", "hum", "hiss"), Axis(100.0, 16_000.0, 160, 0.02),
)  # fmt: skip
BLEED = Pass(
    "bleed", "Bleed", "hit", "hits of the leak", "in dB over the voice around them", theme.bleed_shape,
    (
        Knob("much", "How much goes", 0, 1, 0.05, "%", "How much of the predicted leak is taken out"),
        Knob("careful", "Careful with the voice", 0, 1, 0.05, "%",
             "How much of what the prediction missed is left, so that nothing sounds under water"),
        Knob("nudge_ms", "Cue moved by", -2_000, 2_000, 1, "ms",
             "Where the cue is looked for, when it is found at the wrong place; learn again afterwards", True),
    ),
    lambda part: [],
    lambda mark: mark.standout_db, (-54.0, -12.0, -80.0, 12.0), None, axis=Axis(200.0, 16_000.0, 160, 0.012),
)  # fmt: skip
POPS = Pass(
    "pop", "Pops", "pop", "pops", "their lows in dB over the voice around them", theme.pop_shape,
    (
        Knob("ceiling_db", "Ceiling over the voice", -60, 12, 0.5, "dB",
             "Bursts that stand out more than this over the voice around them come down to it"),
        Knob("limit_db", "Never more than", -36, 0, 0.5, "dB", "No change is deeper than this; at −36 they are gone"),
        Knob("edge_ms", "Edges", 5, 80, 1, "ms", "How long the change takes to come and go", True),
        _SURE,
    ),
    lambda part: [("ceiling_db", "ceiling over the voice", part.pop.ceiling_db, True)],
    lambda mark: mark.standout_db, (-30.0, 6.0, -60.0, 30.0), drawn_pop, axis=LOWS,
)  # fmt: skip
TICKS = Pass(
    "tick", "Ticks", "tick", "ticks", "in dB over the voice around them", theme.tick_shape,
    (
        Knob("ceiling_db", "Ceiling over the voice", -80, 12, 0.5, "dB",
             "Ticks that stand out less than this under the voice around them are left"),
        Knob("sure", "Act when this sure", 0, 1, 0.05, "%", "Marks that are less sure are left as sung"),
    ),
    lambda part: [("ceiling_db", "ceiling over the voice", part.tick.ceiling_db, True)],
    lambda mark: mark.standout_db, (-48.0, 0.0, -80.0, 30.0), drawn_tick, axis=Axis(1_000.0, 16_000.0, 160, 0.003),
)  # fmt: skip
BREATHS = Pass(
    "breath", "Breaths", "breath", "breaths", "in dB over the voice around them", theme.breath_shape,
    (
        Knob("ceiling_db", "Ceiling over the voice", -60, 0, 0.5, "dB",
             "What stands out more than this over the voice around it comes down to it"),
        Knob("limit_db", "Never more than", -36, 0, 0.5, "dB", "No change is deeper than this; at −36 they are gone"),
        Knob("fade_ms", "Fades", 2, 100, 1, "ms", "How long the change takes to come and go", True),
        _SURE,
    ),
    lambda part: [("ceiling_db", "ceiling over the voice", part.breath.ceiling_db, True)],
    lambda mark: mark.standout_db, (-42.0, -12.0, -60.0, 12.0), lambda read, s, a, b: measured_breath(s, a, b, 1.0),
    axis=Axis(200.0, 16_000.0, 160, 0.015),
)  # fmt: skip
ESSES = Pass(
    "ess", "Esses", "ess", "esses", "in dB over the voice around them", theme.ess_shape,
    (
        Knob("ceiling_db", "Ceiling over the voice", -24, 12, 0.5, "dB",
             "What stands out more than this over the voice around it comes down to it"),
        Knob("usual_db", "Over the singer’s usual", 0, 18, 0.5, "dB",
             "What stands out more than this over the singer’s own usual ess comes down too"),
        Knob("limit_db", "Never more than", -24, 0, 0.5, "dB", "No change is deeper than this"),
        Knob("edge_ms", "Edges", 2, 40, 1, "ms", "How long the change takes to come and go", True),
        _SURE,
    ),
    _ess_ceilings, lambda mark: mark.standout_db, (-18.0, 6.0, -36.0, 30.0), _drawn_ess,
)  # fmt: skip
PASSES = (FLOOR, BLEED, POPS, TICKS, BREATHS, ESSES)
