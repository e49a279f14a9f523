"""How risky a gap is: what goes of the sound beside the words around it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from isophon.core.passes.fades import gain_of
from isophon.core.passes.gap.mark import GapMark, without
from isophon.core.passes.gap.pause import breaths_of
from isophon.core.passes.near_words import NEAR_S, goes_near_words
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def risk_of(part: Part, mark: GapMark, survey: Survey) -> float:
    """How far what goes within 150 ms of a word stands over the noise floor, in dB ≥ 0."""
    settings, gain, duration = part.gap, gain_of(part.change(mark)), part.source.duration
    (start, end), (closes, opens) = mark.span, mark.hand.fades_ms or (part.gap.closes_ms, part.gap.opens_ms)
    start += (settings.after_ms + closes / 2) / 1000 if start > 0 else 0.0
    end -= (settings.before_ms + opens / 2) / 1000 if end < duration - 1e-3 else 0.0
    breaths = () if mark.hand.drawn else ((b.start, b.end) for b in breaths_of(part).inside(mark))  # at their own risk
    pieces = [(first, last, gain) for first, last in without((start, end), breaths)]
    near = []
    if mark.start > 0:
        near.append((min(mark.start, mark.span[0]), mark.start + NEAR_S))
    if mark.end < duration - 1e-3:
        near.append((mark.end - NEAR_S, max(mark.end, mark.span[1])))
    return goes_near_words(survey, pieces, near)
