"""How much sound over the noise floor goes beside words, where a cut may take a soft tail or start along."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from isophon.core.audio.loudness import db
from isophon.core.passes.noise_floor import still_power
from isophon.core.survey import Survey

NEAR_S = 0.15  # s: a mark that lies nearer to a word is close to it
_NOT_HEARD_DB = 62.0  # under the voice, in however silent a room

Span = tuple[float, float]


def goes_near_words(survey: Survey, changed: Iterable[tuple[float, float, float]], near: Iterable[Span]) -> float:
    """How far what goes stands over the noise floor, in dB ≥ 0, in the worst of some spans beside words.

    ``changed``: start, end (s) and gain of what is turned down or taken out; ``near``: the spans (s).
    """
    spans = [(survey.frame(start), survey.frame(end), 1 - gain**2) for start, end, gain in changed]
    floor, worst = floor_of(survey), 0.0
    for start, end in near:
        first, last = survey.frame(start), max(survey.frame(start) + 1, survey.frame(end))
        goes = np.zeros(last - first)
        for begin, stop, share in spans:
            goes[max(0, begin - first) : max(0, stop - first)] = share
        over = np.maximum(survey.k_power[first:last].astype(np.float64) / floor - 1, 0)
        worst = max(worst, float(np.mean(over * goes[: len(over)])))
    return round(db(1 + worst), 1)


def floor_of(survey: Survey) -> float:
    """The K-weighted power of a take's still moments; never deeper than what is heard beside its voice."""
    deepest = 10 ** (((survey.voice_lufs or 0.0) - _NOT_HEARD_DB) / 10)
    return max(deepest, still_power(survey) or 0.0)
