"""Hiss, of the Floor pass: steady noise turned down under the voice, the voice's own top left alone."""

from typing import Any

from isophon.core.passes.hiss import settings, treat
from isophon.core.passes.kind import Found, Kind
from isophon.core.passes.stillness import density
from isophon.core.ranges import Level


def _report(part: Any) -> dict[str, Any] | None:
    if not part.hiss.on or not settings.noise_in(part):
        return None
    return {"level_dbfs": settings.level_in(part), "change_db": part.hiss.amount_db, "from_hz": part.hiss.from_hz}


def _told(part: Any) -> str:
    row = _report(part)
    if row is None or max(settings.noise_in(part)) <= settings.SILENT_DB:
        return ""
    return f"hiss: {row['level_dbfs']:.1f} dBFS above {row['from_hz']:.0f} Hz, {row['change_db']:.1f} dB"


def _flaw(part: Any) -> str:
    for name, values in (("measured.noise", part.measured.noise), ("learned", part.learned)):
        if len(values) not in (0, settings.BANDS):
            return f"{name}: holds {len(values)} levels, not {settings.BANDS}"
    return ""


KIND = Kind(
    "hiss", settings.HissSettings, settings.role_default, treat.STAGE, treat.treatments,
    find=lambda ears: Found(measured={"noise": settings.noise_of(density(ears), ears.sample_rate)}), marked=False,
    measures={"noise": (tuple[Level, ...], ())}, one_take=("learn_from", "learn_to"),
    report=_report, told=_told, flaw=_flaw, reads=("ess",), steady=settings.steady_db,
)  # fmt: skip
