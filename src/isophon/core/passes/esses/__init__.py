"""The Esses pass: sibilants that stand out of the voice, brought under a ceiling."""

from typing import Annotated

import msgspec

from isophon.core.passes.esses import air, find, lisp, partners, rule, settings, treat, whistle
from isophon.core.passes.kind import Found, Kind
from isophon.core.ranges import Level

_VoiceSteps = Annotated[tuple[Level, ...], msgspec.Meta(max_length=400_000)]


def _treatments(part):
    """By the ceiling and by hand, by rule, and the air after both."""
    yield from treat.treatments(part)
    yield from rule.treatments(part)
    yield from air.treatments(part)
    yield from whistle.treatments(part)


KIND = Kind(
    "ess", settings.EssSettings, settings.role_default, treat.STAGE, _treatments, later=(rule.STAGE, air.STAGE),
    find=lambda ears: Found(find.find(ears.read, ears.survey), {"voice": rule.voice_steps(ears.survey)}),
    measures={"voice": (_VoiceSteps, ())},
    context=lambda part: settings.usual_standout(part.marks, part.ess.sure), change=settings.change_of,
    drawn_s=settings.DRAWN_S, meets=partners.partnered, needs_voice=True,
    doubts=lisp.doubts, sounds_of=lisp.sounds_of,
)  # fmt: skip
