"""How risky it is to turn a breath down: what goes of the sound beside the words around it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from isophon.core.passes.breath.mark import BreathMark
from isophon.core.passes.fades import gain_of
from isophon.core.passes.near_words import NEAR_S, goes_near_words
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def risk_of(part: Part, mark: BreathMark, survey: Survey) -> float:
    """How far what goes within 150 ms of a word stands over the noise floor, in dB ≥ 0.

    The words are those around the pause that the breath lies in.
    """
    start, end = mark.span
    pauses = (p.span for p in part.of_kind("gap") if p.start < end and p.end > start)
    first, last = next(pauses, (start, end))
    near = ((first, min(first + NEAR_S, max(first, end))), (max(last - NEAR_S, min(last, start)), last))
    gain = gain_of(part.change(mark))
    return goes_near_words(survey, [(start, end, gain)], [(a, b) for a, b in near if a < end and b > start])
