"""The Breaths pass: air between words, under a ceiling over the voice."""

from isophon.core.passes.breath import find, settings, treat
from isophon.core.passes.ceiling import change_of
from isophon.core.passes.fades import STAGE
from isophon.core.passes.kind import Found, Kind

KIND = Kind(
    "breath", settings.BreathSettings, settings.role_default, STAGE, treat.treatments,
    find=lambda ears: Found(find.find(ears.survey, ears.singing)),
    change=lambda mark, settings_, context: change_of(mark, settings_), drawn_s=settings.DRAWN_S,
    reads=("rumble", "hiss", "band"),
)  # fmt: skip
