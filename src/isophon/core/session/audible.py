"""How audible the blemishes of a part are where they will be heard: in the part, under the stack and the music."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import msgspec
import numpy as np

from isophon.core.audio.masking import over_threshold_db
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.passes.removed import frames_of_mark
from isophon.core.session.chain_curves import ChainGains
from isophon.core.session.model import Part
from isophon.core.session.settings import value_range
from isophon.core.survey import Survey

# Limits of ours, but for the first.
_BEFORE_S = 0.15  # s: forward masking has ended by then (common knowledge)
_NOT_JUDGED_DB = 10.0  # dB over the threshold: what is taken for what nobody can tell
_JUST_OVER_DB = 6.0  # dB: a change of nothing is wholly doubtful, one of so much not at all
_STILL_OVER_DB = 6.0  # dB: so far over its ceiling after the deepest change, what is left is wholly doubtful
_LEAST_DOUBT = 0.2  # share: of what nothing speaks against


@dataclass(frozen=True, eq=False)
class Beside:
    """Something that sounds at the same time: its survey, where it starts in the song, s, and its gain.

    ``chained``: what the rough chain does to it; None: it goes through no chain, as music does.
    """

    survey: Survey
    offset_s: float
    gain_db: float = 0.0
    chained: ChainGains | None = None


def judged(kind: str) -> bool:
    """Whether it is known how audible the marks of a kind are.

    Of noise floor and pops it is not: small loudspeakers would hide them, and others not.
    """
    return BY_NAME[kind].removed is not None


def worth_hearing(over_db: float | None, part: Part, mark: Mark, risk: float) -> float:
    """How much a changed mark is worth hearing: how audible it is, times how doubtful.

    Parameters
    ----------
    over_db : dB over the masked threshold, see :func:`audible_db`; None: it is not known
    part : the mark's
    mark : with a change that is not 0
    risk : how risky the change is, in the unit of its kind

    Returns
    -------
    0 where it cannot be heard, else dB times doubt. Doubtful is what is unsure, hardly over its ceiling, still over
    it after the deepest change that is allowed, or risky.
    """
    kind = BY_NAME[mark.kind]
    change = part.change(mark)
    small = 1 - abs(change) / _JUST_OVER_DB if kind.decision.unit == "dB" else 0.0
    still_over = min(1.0, still_over_db(part, mark) / _STILL_OVER_DB)
    doubt = max(1 - mark.confidence, small, still_over, min(1.0, risk / kind.risk.risky_from))
    return max(0.0, _NOT_JUDGED_DB if over_db is None else over_db) * (_LEAST_DOUBT + doubt)


def still_over_db(part: Part, mark: Mark) -> float:
    """How far a mark stays over its ceiling since its settings allow no deeper change, dB; 0 where a hand decided."""
    settings = part.settings(mark.kind)
    if mark.hand.any or not hasattr(settings, "limit_db"):
        return 0.0
    deepest = msgspec.structs.replace(settings, limit_db=value_range(mark.kind, "limit_db")[0])
    return part.change(mark) - BY_NAME[mark.kind].decision.change(mark, deepest, part.context(mark.kind))


def audible_db(
    part: Part, mark: Mark, survey: Survey, beside: Sequence[Beside] = (), chained: ChainGains | None = None
) -> float | None:
    """How far what is taken away at a mark stands over its masked threshold at its most audible moment.

    Parameters
    ----------
    part : the mark's
    mark : as it is treated now
    survey : of the part's take
    beside : what else sounds
    chained : what the rough chain does to the take; None: as it was sung, without it

    Returns
    -------
    dB; −120 where nothing is taken away, None where it is not known. Something louder beside never makes it more.
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
    if chained is not None:
        gain = gain * chained.by_frame[around, None] * chained.by_band
    masker, taken = gain * masker, gain * taken
    for other in beside:
        masker += _power_at(other, seconds, masker.shape[1], chained is not None)
    voice = -23.0 if survey.voice_lufs is None else survey.voice_lufs
    over = over_threshold_db(taken, masker, survey.band_edges, survey.hop_s, voice + part.listening.gain_db)
    return round(float(over[before:].max()), 1)


def _power_at(other: Beside, seconds: np.ndarray, bands: int, chained: bool) -> np.ndarray:
    """The power of something at moments of the song, ``(moments, bands)``; nothing where it does not sound."""
    survey = other.survey
    at = np.round((seconds - other.offset_s) / survey.hop_s).astype(int)
    there = (at >= 0) & (at < len(survey.bands))
    shared = min(bands, survey.bands.shape[1])
    power = np.zeros((len(seconds), bands))
    power[there, :shared] = survey.bands[at[there], :shared] * 10 ** (other.gain_db / 10)
    if chained and other.chained is not None:
        power[there, :shared] *= other.chained.by_frame[at[there], None] * other.chained.by_band[:shared]
    return power
