"""Hum and buzz, of the Floor pass: the mains' harmonics, modelled and subtracted."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from isophon.core.audio.hum import flaw_of
from isophon.core.passes.hum import find, settings, treat
from isophon.core.passes.kind import Cure, Finder, Found, Kind, Reporter

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def _row(part: Part) -> dict[str, Any] | None:
    hum = part.measured.hum
    if hum is None or not part.hum.on:
        return None
    return {"base_hz": hum.base_hz, "partials": len(hum.partials), "level_dbfs": round(hum.level_db, 1)}


def _steady_json(part: Part) -> list[dict[str, Any]]:
    """The partials of the hum; what takes them away reaches down to the noise beside them."""
    if part.measured.hum is None or not part.hum.on:
        return []
    voice = 0.0 if part.voice_lufs is None else part.voice_lufs
    return [
        {
            "kind": "hum",
            "freq_hz": partial.freq_hz,
            "q": round(partial.freq_hz, 1),  # a line: about 1 Hz wide
            "standout_db": round(partial.level_db - voice, 1),
            "change_db": -partial.over_db if partial.freq_hz <= part.hum.top_hz and partial.over_db > 0 else 0.0,
            "level_db": partial.level_db,
        }
        for partial in part.measured.hum.partials
    ]


def _summary(part: Part) -> str:
    hum = part.measured.hum
    if hum is None or not part.hum.on:
        return ""
    return f"hum: {hum.base_hz:.2f} Hz and {len(hum.partials)} partials, {hum.level_db:.1f} dBFS"


def _flaw(part: Part) -> str:
    source = part.source
    flaw = flaw_of(part.measured.hum, source.sample_rate, source.channels, source.frames)
    return flaw and f"measured.hum.{flaw}"


KIND = Kind(
    "hum", settings.HumSettings, settings.role_default, after=("rumble",),
    finder=Finder(lambda context: Found(measured={"hum": find.find(context.low, context.sample_rate)}),
                  measures={"hum": (treat.Hum | None, None)}, flaw=_flaw),
    cure=Cure(treat.treatments, (treat.STAGE,)),
    reporter=Reporter(row=_row, steady_json=_steady_json, summary=_summary),
)  # fmt: skip
