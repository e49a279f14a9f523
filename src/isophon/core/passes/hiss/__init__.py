"""Hiss, of the Floor pass: steady noise turned down under the voice, the voice's own top left alone."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING, Any

from isophon.core.passes.context import FinderContext
from isophon.core.passes.hiss import learning, settings, treat
from isophon.core.passes.kind import Cure, Finder, Found, Kind, Reporter, SpanLearning
from isophon.core.passes.noise_floor import dead_air_of, density, without
from isophon.core.passes.noise_track import Track, track_of
from isophon.core.ranges import Level

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _row(part: Part) -> dict[str, Any] | None:
    if not part.hiss.on or not settings.noise_in(part):
        return None
    return {"level_dbfs": settings.level_in(part), "change_db": part.hiss.amount_db, "from_hz": part.hiss.from_hz}


def _summary(part: Part) -> str:
    row = _row(part)
    if row is None or max(settings.noise_in(part)) <= settings.SILENT_DB:
        return ""
    return f"hiss: {row['level_dbfs']:.1f} dBFS above {row['from_hz']:.0f} Hz, {row['change_db']:.1f} dB"


def _flaw(part: Part) -> str:
    for name, values in (("measured.noise", part.measured.noise), ("learned", part.learned)):
        if len(values) not in (0, settings.BANDS):
            return f"{name}: holds {len(values)} levels, not {settings.BANDS}"
    moments = [at for at, _ in part.measured.noise_track]
    if any(later <= at for at, later in pairwise(moments)):
        return "measured.noise_track: its moments are not in order of time"
    return ""


def _find(context: FinderContext) -> Found:
    hum = context.measured("hum", "hum")
    noise = density(context, context.marks("gap"), hum)
    measured: dict[str, Any] = {"noise": settings.noise_of(noise, context.sample_rate)}
    if noise is not None:
        pauses = dead_air_of(context.marks("gap"))
        measured["noise_track"] = track_of(without(hum, context.read), context.sample_rate, pauses, noise)
    return Found(measured=measured)


KIND = Kind(
    "hiss", settings.HissSettings, settings.role_default, after=("hum",), one_take=("learn_from", "learn_to"),
    times=("learn_from", "learn_to"),
    finder=Finder(_find, measures={"noise": (tuple[Level, ...], ()), "noise_track": (Track, ())}, flaw=_flaw),
    cure=Cure(treat.treatments, (treat.STAGE,), reads=("ess",), steady=settings.steady_db),
    reporter=Reporter(row=_row, summary=_summary),
    span_learning=SpanLearning(tuple[Level, ...], learning.learn, learning.adopt, learning.asked),
)  # fmt: skip
