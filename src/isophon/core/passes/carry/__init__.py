"""Carrying on: a finished passage stands at the other places where the song repeats it."""

from isophon.core.passes.carry import settings, treat
from isophon.core.passes.kind import Kind

KIND = Kind(
    "carry", settings.CarrySettings, settings.role_default, treat.STAGE, treat.treatments,
    change=settings.change_of, drawn_s=settings.DRAWN_S, quiet=True, outlined=True,
)  # fmt: skip
