"""The Ticks pass: mouth clicks repaired, never turned down; clipped peaks and dropouts on request."""

from isophon.core.passes.kind import Found, Kind
from isophon.core.passes.tick import find, settings, treat

KIND = Kind(
    "tick", settings.TickSettings, settings.role_default, treat.STAGE, treat.treatments,
    find=lambda ears: Found(find.find(ears.read, ears.survey)),
    change=lambda mark, settings_, context: settings.change_of(mark, settings_), drawn_s=settings.DRAWN_S,
)  # fmt: skip
