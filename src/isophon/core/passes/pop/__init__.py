"""The Pops pass: bursts of low air, taken out of the lows alone."""

from isophon.core.passes.ceiling import change_of
from isophon.core.passes.ears import Ears
from isophon.core.passes.kind import Found, Kind
from isophon.core.passes.pop import find, settings, treat


def _find(ears: Ears) -> Found:
    lows = find.lows_of(ears.low, ears.measured("hum", "hum"), ears.sample_rate)
    return Found(find.find(lows, ears.survey))


KIND = Kind(
    "pop", settings.PopSettings, settings.role_default, treat.STAGE, treat.treatments, find=_find,
    change=lambda mark, settings_, context: change_of(mark, settings_), drawn_s=settings.DRAWN_S,
    works_in=lambda mark: (mark.band[0], mark.band[1] or mark.high_hz),
)  # fmt: skip
