"""The Spots pass: boxes in time and frequency drawn by hand, and words that stand out of their phrase."""

from isophon.core.passes.kind import Found, Kind
from isophon.core.passes.spots import find, settings, treat

KIND = Kind(
    "spot", settings.SpotSettings, settings.role_default, treat.STAGE, treat.treatments,
    find=lambda ears: Found(find.find(ears.survey)), change=settings.change_of, drawn_s=settings.DRAWN_S,
    most_db=settings.MOST_DB, quiet=True, outlined=True,
)  # fmt: skip
