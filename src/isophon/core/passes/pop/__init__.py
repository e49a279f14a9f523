"""The Pops pass: bursts of low air, taken out of the lows alone."""

from isophon.core.passes.ceiling import change_of
from isophon.core.passes.context import FinderContext
from isophon.core.passes.kind import Cure, Decision, Finder, Found, Kind
from isophon.core.passes.pop import find, settings, treat
from isophon.core.passes.pop.mark import PopMark


def _find(context: FinderContext) -> Found:
    lows = find.lows_of(context.low, context.measured("hum", "hum"), context.sample_rate)
    return Found(find.find(lows, context.survey))


KIND = Kind(
    "pop", settings.PopSettings, settings.role_default, PopMark, after=("gap",), finder=Finder(_find),
    decision=Decision(change_of, drawn_s=settings.DRAWN_S,
                      works_in=lambda mark: (mark.band[0], mark.band[1] or mark.high_hz)),
    cure=Cure(treat.treatments, (treat.STAGE,)),
)  # fmt: skip
