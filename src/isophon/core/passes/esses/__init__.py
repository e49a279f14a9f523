"""The Esses pass: sibilants that stand out of the voice, brought under a ceiling."""

from isophon.core.passes.esses import find, settings, treat
from isophon.core.passes.kind import Found, Kind

KIND = Kind(
    "ess", settings.EssSettings, settings.role_default, treat.STAGE, treat.treatments,
    find=lambda ears: Found(find.find(ears.read, ears.survey)),
    context=lambda part: settings.usual_standout(part.marks, part.ess.sure), change=settings.change_of,
    drawn_s=settings.DRAWN_S, needs_voice=True,
)  # fmt: skip
