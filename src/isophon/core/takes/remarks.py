"""Warnings about a session's recordings, in words."""

from __future__ import annotations

from collections import Counter

from isophon.core.session.items import Guide
from isophon.core.session.model import Part, Session
from isophon.core.takes.scan import Figures

_LOW_HZ = 16_000  # Hz: a lower rate is remarked on
_LATE_S = 3.0  # s: a take that begins later is
_SOFT_DBFS = -50.0  # dBFS: one that is softer is
_MOSTLY_SILENT = 0.9  # share of silence over which it is


def common_rate(session: Session) -> int | None:
    """The rate that more parts have than any other; None without parts, or where two are as many."""
    rates = Counter(p.source.sample_rate for p in session.parts).most_common(2)
    return rates[0][0] if rates and (len(rates) == 1 or rates[0][1] > rates[1][1]) else None


def remarks(session: Session, item: Part | Guide, figures: Figures | None, trouble: str) -> list[str]:
    """The remarks on one part or reference; ``figures`` as far as they are known, ``trouble`` why it cannot be used."""
    if trouble:
        return [trouble]
    said = _of_rate(session, item)
    if figures is None:
        return said
    if figures.sounds is None:
        return [*said, "empty: nothing sounds in it"]
    return [*said, *_of_sound(figures, item.offset_s)]


def _of_rate(session: Session, item: Part | Guide) -> list[str]:
    said = []
    rate, usual = item.source.sample_rate, common_rate(session)
    rates = {p.source.sample_rate for p in session.parts}
    if not usual and len(rates) > 1 and isinstance(item, Part):
        said.append(f"{_khz(rate)}, others at {', '.join(_khz(r) for r in sorted(rates - {rate}))}")
    if usual and rate != usual:
        stem = "" if isinstance(item, Guide) else f", handed over at {_khz(session.rate or rate)}"
        said.append(f"{_khz(rate)}, the others {_khz(usual)}: converted for listening{stem}")
    elif isinstance(item, Part) and session.rate and session.rate != rate:
        said.append(f"handed over at {_khz(session.rate)}")
    if rate < _LOW_HZ:
        said.append(f"nothing above {_khz(rate // 2)} is in it, where most of an ess lies")
    return said


def _of_sound(figures: Figures, offset_s: float) -> list[str]:
    said = []
    begins = (figures.sounds[0] if figures.sounds else 0.0) + offset_s
    if begins > _LATE_S:
        said.append(f"starts late: first sound at {begins:.1f} s")
    if figures.clipped:
        said.append(f"clipped: {figures.clipped} samples at full scale")
    if figures.silent > _MOSTLY_SILENT:
        said.append("mostly silent")
    if figures.level_dbfs < _SOFT_DBFS:
        said.append("very soft")
    return said


def _khz(rate: int) -> str:
    return f"{rate / 1000:g} kHz"
