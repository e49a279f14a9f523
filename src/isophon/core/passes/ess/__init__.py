"""The Esses pass: sibilants that stand out of the voice, brought under a ceiling."""

from collections.abc import Iterator
from typing import Annotated, Any

import msgspec

from isophon.core.passes.ess import air, find, lisp, partners, rule, settings, treat, whistle
from isophon.core.passes.kind import Found, Kind, Treatment
from isophon.core.ranges import Level

_VoiceSteps = Annotated[tuple[Level, ...], msgspec.Meta(max_length=400_000)]


def _treatments(part: Any) -> Iterator[Treatment]:
    """By the ceiling and by hand, by rule, and the air after both."""
    yield from treat.treatments(part)
    yield from rule.treatments(part)
    yield from air.treatments(part)
    yield from whistle.treatments(part)


def _told(part: Any) -> str:
    """What is done beside the marks: by rule, and the air."""
    how, words = part.ess, []
    if any(True for _ in rule.treatments(part)):
        words.append(f"esses by rule: from {how.rule_low_hz:.0f} Hz, over {how.rule_over_db:.1f} dB to the voice, "
                     f"{how.rule_ratio:.0f}:1, at most {how.rule_range_db:.1f} dB off")  # fmt: skip
    if any(True for _ in air.treatments(part)):
        words.append(f"air: {how.air_db:.1f} dB of top from {how.air_hz:.0f} Hz")
    return "; ".join(words)


KIND = Kind(
    "ess", settings.EssSettings, settings.role_default, treat.STAGE, _treatments, later=(rule.STAGE, air.STAGE),
    find=lambda ears: Found(find.find(ears.read, ears.survey), {"voice": rule.voice_steps(ears.survey)}),
    measures={"voice": (_VoiceSteps, ())},
    context=lambda part: settings.usual_standout(part.marks, part.ess.sure), change=settings.change_of,
    drawn_s=settings.DRAWN_S, meets=partners.partnered, needs_voice=True,
    told=_told, doubts=lisp.doubts, sounds_of=lisp.sounds_of,
)  # fmt: skip
