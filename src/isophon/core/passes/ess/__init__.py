"""The Esses pass: sibilants that stand out of the voice, brought under a ceiling."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Annotated, Any

import msgspec

from isophon.core.passes.ess import air, find, lisp, partners, rule, settings, treat, whistle
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.kind import BesideLead, Cure, Decision, Finder, Found, Kind, Reporter, Risk
from isophon.core.passes.removed import by_change
from isophon.core.passes.stage import Treatment
from isophon.core.ranges import Level
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_SUNG_DB = -20.0  # over the voice
_VoiceSteps = Annotated[tuple[Level, ...], msgspec.Meta(max_length=400_000)]


def _treatments(part: Part) -> Iterator[Treatment]:
    """By the ceiling and by hand, by rule, and the air after both."""
    yield from treat.treatments(part)
    yield from rule.treatments(part)
    yield from air.treatments(part)
    yield from whistle.treatments(part)


def _summary(part: Part) -> str:
    """What is done beside the marks: by rule, and the air."""
    how, words = part.ess, []
    if any(True for _ in rule.treatments(part)):
        words.append(f"esses by rule: from {how.rule_low_hz:.0f} Hz, over {how.rule_over_db:.1f} dB to the voice, "
                     f"{how.rule_ratio:.0f}:1, at most {how.rule_range_db:.1f} dB off")  # fmt: skip
    if any(True for _ in air.treatments(part)):
        words.append(f"air: {how.air_db:.1f} dB of top from {how.air_hz:.0f} Hz")
    return "; ".join(words)


def _mark_json(_part: Part, mark: EssMark, with_lead: bool) -> dict[str, Any]:
    """What an ess is, and which of the lead's it meets."""
    row: dict[str, Any] = {"sound": mark.sound} if mark.sound else {}
    if with_lead:
        late = None if mark.partner_s is None else round(1000 * (mark.start - mark.partner_s), 1)
        row |= {"partner_s": mark.partner_s, "late_ms": late}
    return row


def _sung(marks: Sequence[EssMark]) -> list[tuple[float, float]]:
    """The spans of the esses; a soft T or F beside a word may be a breath."""
    return [(m.start, m.end) for m in marks if m.sound not in settings.LEFT_ALONE or m.standout_db > _SUNG_DB]


def _risk(part: Part, mark: EssMark, _survey: Survey) -> float:
    """How far an ess ends under this singer's usual one, in dB ≥ 0: what makes a lisp."""
    usual = part.context("ess")
    return 0.0 if usual is None else round(max(0.0, usual - mark.standout_db - part.change(mark)), 1)


KIND = Kind(
    "ess", settings.EssSettings, settings.role_default, EssMark, after=("breath",),
    finder=Finder(
        lambda context: Found(find.find(context.read, context.survey), {"voice": rule.voice_steps(context.survey)}),
        measures={"voice": (_VoiceSteps, ())}, sung=_sung, needs_voice=True,
    ),
    decision=Decision(settings.change_of, lambda part: settings.usual_standout(part.of(EssMark), part.ess.sure),
                      drawn_s=settings.DRAWN_S),
    risk=Risk(_risk, 6.0, "dB", "under this singer’s usual"),
    taught=(("ceiling_db", "usual_db"), ("usual_db",), ("limit_db",), ("sh_db",), ("f_too",), ("t_too",),
            ("f_db",), ("t_db",), ("f_too", "f_db"), ("t_too", "t_db")),
    removed=by_change, cure=Cure(_treatments, (treat.STAGE, rule.STAGE, air.STAGE)),
    reporter=Reporter(summary=_summary, mark_json=_mark_json, label=lambda mark: mark.sound, doubts=lisp.doubts,
                      sounds_of=lisp.sounds_of),
    beside_lead=BesideLead(partners.partnered, lambda mark: mark.partner_s is not None),
)  # fmt: skip
