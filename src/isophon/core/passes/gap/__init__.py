"""Dead air, of the Floor pass: gaps, heads and tails, filled with room tone, turned down or silenced."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from isophon.core.audio.spectra import third_octave_edges
from isophon.core.passes import fades
from isophon.core.passes.context import FinderContext
from isophon.core.passes.gap import find, pause, risk, said, settings, treat
from isophon.core.passes.gap.mark import GapMark
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind, Redrawing, Reporter, Risk
from isophon.core.passes.noise_floor import dead_air_of, density
from isophon.core.ranges import Level

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _find(context: FinderContext) -> Found:
    breaths = tuple((mark.start, mark.end) for mark in context.marks("breath"))
    by = said.DrawnBy(esses=tuple(context.sung), breaths=breaths)
    return Found(find.find(context.survey, context.singing, breaths), {"pauses": by})


def _room(context: FinderContext) -> dict[str, Any]:
    noise = density(context, context.marks("gap"), context.measured("hum", "hum"))
    return {"room": find.room_of(noise)}


def _flaw(part: Part) -> str:
    bands, known = len(third_octave_edges(*find.ROOM_EDGES)) - 1, len(part.measured.room)
    return "" if known in (0, bands) else f"measured.room: holds {known} levels, not {bands}"


KIND = Kind(
    "gap", settings.GapSettings, settings.role_default, GapMark, after=("bleed",),
    finder=Finder(_find, _room, measures={"room": (tuple[Level, ...], ()), "pauses": (said.DrawnBy, said.DrawnBy())},
                  still=dead_air_of, flaw=_flaw),
    decision=Decision(settings.change_of, pause.breaths_of, drawn_s=settings.DRAWN_S),
    risk=Risk(risk.risk_of, 6.0, "dB", "goes beside a word"),
    cure=Cure(treat.gap_fades, (fades.STAGE,), reads=("rumble", "hiss", "band"), reads_in_context=("breath",)),
    reporter=Reporter(rows=pause.rows), one_take=("sung", "unsung"), times=("sung", "unsung"),
    redrawing=Redrawing(said.is_due, said.draw, said.say),
)  # fmt: skip
