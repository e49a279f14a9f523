"""How audible the blemishes of a part are where they will be heard: in the part, under the stack and the music."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from isophon.core.audio.masking import over_threshold_db
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.passes.removed import frames_of_mark
from isophon.core.session.model import Part
from isophon.core.survey import Survey

_BEFORE_S = 0.15  # a masker that ended so long ago masks no more
_NOT_JUDGED_DB = 10.0  # as audible is taken what nobody can tell
_JUST_OVER_DB = 6.0  # a change this small is doubtful
_LEAST_DOUBT = 0.2


@dataclass(frozen=True, eq=False)
class Beside:
    """Something that sounds at the same time: its survey, where it starts in the song, s, and its gain."""

    survey: Survey
    offset_s: float
    gain_db: float = 0.0


def judged(kind: str) -> bool:
    """Whether it can be told how audible the marks of a kind are.

    Of noise floor and pops it is not: small loudspeakers would hide them, and others not.
    """
    return BY_NAME[kind].removed is not None


def worth_hearing(over_db: float | None, mark: Mark, change: float, risk: float) -> float:
    """How much a changed mark is worth hearing: how audible it is, times how doubtful. 0: it cannot be heard.

    ``over_db``: as :func:`audible_db` tells it; ``risk``: how risky the change is, in the unit of its kind. Doubtful is
    what is unsure, hardly over its ceiling, or risky.
    """
    kind = BY_NAME[mark.kind]
    just_over = _JUST_OVER_DB if kind.decision.unit == "dB" else 0.0
    small = 1 - abs(change) / just_over if just_over else 0.0
    doubt = max(1 - mark.confidence, small, min(1.0, risk / kind.risk.risky_from))
    return max(0.0, _NOT_JUDGED_DB if over_db is None else over_db) * (_LEAST_DOUBT + doubt)


def audible_db(part: Part, mark: Mark, survey: Survey, beside: Sequence[Beside] = ()) -> float | None:
    """How far what is taken away at a mark stands over its masked threshold at its most audible moment, dB.

    ``survey``: of the part's take; ``beside``: what else sounds. Nothing is taken away: −120;
    None where it cannot be told.
    """
    removed = BY_NAME[mark.kind].removed
    both = removed(part, mark, survey) if removed else None
    if both is None:
        return None
    taken, left = both
    frames = frames_of_mark(mark, survey)
    before = min(frames.start, round(_BEFORE_S / survey.hop_s))
    around = slice(frames.start - before, frames.stop)
    taken = np.pad(taken, ((before, 0), (0, 0)))
    masker = np.concatenate([survey.bands[around][:before], left])
    seconds = part.offset_s + np.arange(around.start, around.stop) * survey.hop_s
    gain = 10 ** (part.listening.gain_db / 10)
    masker, taken = gain * masker, gain * taken
    for other in beside:
        masker += _power_at(other, seconds, masker.shape[1])
    voice = -23.0 if survey.voice_lufs is None else survey.voice_lufs
    over = over_threshold_db(taken, masker, survey.band_edges, survey.hop_s, voice + part.listening.gain_db)
    return round(float(over[before:].max()), 1)


def _power_at(other: Beside, seconds: np.ndarray, bands: int) -> np.ndarray:
    """The power of something at moments of the song, ``(moments, bands)``; nothing where it does not sound."""
    survey = other.survey
    at = np.round((seconds - other.offset_s) / survey.hop_s).astype(int)
    there = (at >= 0) & (at < len(survey.bands))
    shared = min(bands, survey.bands.shape[1])
    power = np.zeros((len(seconds), bands))
    power[there, :shared] = survey.bands[at[there], :shared] * 10 ** (other.gain_db / 10)
    return power
