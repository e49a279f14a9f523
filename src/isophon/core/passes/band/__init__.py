"""The Bands pass: resonances of room and microphone under a ceiling, and bells and shelves by hand."""

from isophon.core.passes import filters
from isophon.core.passes.band import find, settings, treat
from isophon.core.passes.kind import Found, Kind

KIND = Kind(
    "band", settings.BandSettings, settings.role_default, filters.STAGE, treat.treatments,
    find=lambda ears: Found(find.find(ears)), change=settings.change_of, rows=settings.rows, told=settings.told,
    placed=False, most_db=settings.MOST_DB, drawn_s=(0.05, 86_400.0),
    steady=treat.response_of,
)  # fmt: skip
