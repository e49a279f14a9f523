"""The Spots pass: boxes in time and frequency drawn by hand, and words that stand out of their phrase."""

from collections.abc import Iterator
from typing import Any

from isophon.core.passes.kind import Found, Kind, Treatment
from isophon.core.passes.spot import find, outline, settings, treat


def _treatments(part: Any) -> Iterator[Treatment]:
    """Boxes and free outlines."""
    yield from treat.treatments(part)
    yield from outline.treatments(part)


KIND = Kind(
    "spot", settings.SpotSettings, settings.role_default, treat.STAGE, _treatments, later=(outline.STAGE,),
    find=lambda ears: Found(find.find(ears.survey)), change=settings.change_of, drawn_s=settings.DRAWN_S,
    most_db=settings.MOST_DB, quiet=True, outlined=True,
)  # fmt: skip
