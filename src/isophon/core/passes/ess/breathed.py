"""Breaths that hiss like an ess: a breath is less a sound than a place and a way.

It lies in a pause, leads up to a word without touching it, and swells and sinks slowly; a jet of air against the
teeth belongs to a voice, is there at once, and has little under 2 kHz (common practice; Shadle 1985 of the jet).
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from isophon.core.audio.loudness import db
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.singing import smoothed_level, sung_voice, swell_s
from isophon.core.survey import STILL, Survey

_PAUSE_BEFORE_S = 0.28  # without voice; the end of a word's tail may lie in it
_WORD_AFTER_S = (0.03, 0.7)  # s after which a word may begin for the sound to be its breath
_QUIET_S, _QUIET_DB, _ROOM_DB = 0.015, 12.0, 3.0  # between it and its word: under it, or near the room
_JET_OVER_MID_DB = 22.0  # dB of the upper over the middle band: more is a jet against the teeth, no breath
_SLOW_S = 0.08  # s: a breath swells for so long at least
_UPPER_HZ, _MIDDLE_HZ = (2_500, np.inf), (900, 2_000)  # Hz
_TOP_PERCENTILE = 90  # of its level: its height


def without_breaths(survey: Survey, marks: Iterable[EssMark]) -> list[EssMark]:
    """The marks of esses that are none of a breath."""
    level, still = smoothed_level(survey), survey.state == STILL
    room = float(np.median(level[still])) if still.any() else -np.inf
    sung = sung_voice(survey)
    return [mark for mark in marks if not _is_breath(survey, mark, sung, level, room)]


def _is_breath(survey: Survey, mark: EssMark, sung: np.ndarray, level: np.ndarray, room: float) -> bool:
    first, last, hop = survey.frame(mark.start), survey.frame(mark.end), survey.hop_s
    voiced = 2 * np.count_nonzero(sung[first:last]) > last - first
    if voiced or sung[max(0, first - round(_PAUSE_BEFORE_S / hop)) : first].any():
        return False
    word = np.flatnonzero(sung[last : last + round(_WORD_AFTER_S[1] / hop)])
    if not len(word) or word[0] * hop < _WORD_AFTER_S[0]:
        return False
    upper = survey.bands[first:last, survey.band_slice(*_UPPER_HZ)].sum()
    middle = survey.bands[first:last, survey.band_slice(*_MIDDLE_HZ)].sum()
    if float(db(upper) - db(middle)) > _JET_OVER_MID_DB:
        return False
    top = float(np.percentile(level[first:last], _TOP_PERCENTILE))
    quiet = level[last : last + int(word[0])] < max(top - _QUIET_DB, room + _ROOM_DB)
    return bool(np.count_nonzero(quiet) * hop >= _QUIET_S) and swell_s(level, first, last, hop) >= _SLOW_S
