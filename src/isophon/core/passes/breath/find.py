"""Finding breaths: air between the stretches of singing, beside a word, smooth and without pitch.

No published detector is followed: the conditions are common practice, and the numbers are this program's own. How well
they do on voices that nothing was fitted to is in bench/left_out.md.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from isophon.core.audio.loudness import db, lufs
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.breath.mark import BreathMark, Place
from isophon.core.passes.singing import band_levels, smoothed_level, sung_voice, swell_s
from isophon.core.survey import STILL, VOICED, Survey

_OVER_FLOOR_DB = 5.0  # a band sounds that is so far over its noise floor
_UNDER_VOICE_DB = 46.0  # and no further than this under the voice of the take
_HOLE_S = 0.06  # shorter holes in it are bridged
_SHORTEST_S, _LONGEST_S = 0.09, 1.8  # how long a breath lasts
_BEFORE_WORD_S, _AFTER_WORD_S = 0.7, 0.35  # how far from its word it may be for the least that counts
_LEAST_CONFIDENCE = 0.5  # under it there is no mark
_BODY_DB = 12.0  # what is within this of its loudest tenth is its body, whose evenness is judged
_SWELL_S = (0.06, 0.09)  # what hisses is air if it comes and goes as slowly: not at all, in full
_REST_S = 0.6  # a longer one lies between phrases
_LOWEST_HZ, _HIGHEST_HZ = 300.0, 12_000.0  # the band that a mark names
_TOUCHES_S = 0.02  # a breath may reach so far into its word
# what speaks against air: from the first value on a little, from the second on fully
_VOICED_SHARE = (0.1, 0.35)  # of its frames with a pitch
_LOW_SHARE = (0.6, 0.9)  # of its power under 300 Hz: a thump
_HIGH_SHARE = (0.55, 0.85)  # of its power over 6 kHz: a hiss
_OVER_ROOM_DB = (4.0, 9.0)  # how far it stands over the room: under the first none, over the second clearly
_ROUGH_DB = (2.5, 5.0)  # standard deviation of its level around its course
_AIR_BANDS = slice(1, 5)  # of the six bands of the singing: 300 Hz to 9 kHz, where air sounds
_THUMP_HZ, _HISS_HZ = (0.0, 300.0), (6_000.0, np.inf)  # Hz
_LEVEL_PERCENTILE = 80  # of its frames: the level of a breath
_COURSE_S = 0.06  # s over which the course of its level is averaged
# s from the next word, and from the last one, with the confidence there; a breath before a word is the usual one
_BEFORE, _AFTER = ((0.0, 0.25, _BEFORE_WORD_S), (1.0, 1.0, 0.3)), ((0.0, 0.1, _AFTER_WORD_S), (0.9, 0.8, 0.3))
# the confidence is multiplied with these at the second of each pair
_THUMP_DOUBT, _HISS_DOUBT, _ROUGH_DOUBT = 0.1, 0.2, 0.2


def find(survey: Survey, sounds: list[tuple[float, float]]) -> tuple[Mark, ...]:
    """The breaths of a take. ``sounds``: where the singer sounds, see :mod:`isophon.core.passes.singing`."""
    if not sounds or survey.voice_lufs is None:
        return ()
    hop = survey.hop_s
    level, floor = band_levels(survey)
    air = (level > np.maximum(floor + _OVER_FLOOR_DB, survey.voice_lufs - _UNDER_VOICE_DB))[:, _AIR_BANDS].any(axis=1)
    air = ndimage.binary_closing(np.pad(air, 20), np.ones(round(_HOLE_S / hop)))[20:-20]
    for start, end in sounds:
        air[round(start / hop) : round(end / hop)] = False
    smooth, sung = smoothed_level(survey), sung_voice(survey)
    marks: list[Mark] = []
    for (where,) in ndimage.find_objects(ndimage.label(air)[0]):
        start, end = where.start * hop, where.stop * hop
        if not _SHORTEST_S <= end - start <= _LONGEST_S:
            continue
        sure = _beside_a_word(start, end, sounds) * _like_air(survey, where, smooth, sung)
        if sure >= _LEAST_CONFIDENCE:
            marks.append(measured(survey, start, end, sure, sounds))
    return tuple(marks)


def measured(
    survey: Survey, start: float, end: float, sure: float, sounds: list[tuple[float, float]] | None = None
) -> Mark:
    """A breath with its level, its stand-out over the voice around it, and its place.

    ``sounds``: where the singer sounds, None: where there is voice.
    """
    frames = slice(survey.frame(start), max(survey.frame(start) + 1, survey.frame(end)))
    level = lufs(float(np.percentile(survey.k_power[frames], _LEVEL_PERCENTILE)))
    standout = level - float(np.mean(survey.voice_level[frames]))
    return BreathMark(
        mark_id("breath", start), round(start, 4), round(end, 4), round(level, 2), round(standout, 2),
        _LOWEST_HZ, _HIGHEST_HZ, round(sure, 3), place=_place(start, end, _voice(survey) if sounds is None else sounds),
    )  # fmt: skip


def _place(start: float, end: float, sounds: list[tuple[float, float]]) -> Place:
    """Where a breath lies: beside the nearer word of a longer rest, else between two words."""
    before = max((e for _, e in sounds if e <= start + _TOUCHES_S), default=-np.inf)
    after = min((s for s, _ in sounds if s >= end - _TOUCHES_S), default=np.inf)
    if after - before < _REST_S:
        return "between"
    return "head" if after - end <= start - before else "end"


def _voice(survey: Survey) -> list[tuple[float, float]]:
    runs = ndimage.find_objects(ndimage.label(survey.state == VOICED)[0])
    return [(run.start * survey.hop_s, run.stop * survey.hop_s) for (run,) in runs]


def _beside_a_word(start: float, end: float, sounds: list[tuple[float, float]]) -> float:
    """1 where it leads into a word or follows one closely, falling off further away."""
    before = min((s - end for s, _ in sounds if s >= end - _TOUCHES_S), default=np.inf)
    after = min((start - e for _, e in sounds if e <= start + _TOUCHES_S), default=np.inf)
    near = max(np.interp(before, *_BEFORE) if np.isfinite(before) else 0.0,
               np.interp(after, *_AFTER) if np.isfinite(after) else 0.0)  # fmt: skip
    return float(near)


def _like_air(survey: Survey, where: slice, smooth: np.ndarray, sung: np.ndarray) -> float:
    """How much it sounds like air: no pitch, neither a thump nor a hiss alone, swelling smoothly."""
    bands = survey.bands[where]
    total = float(bands.sum()) + 1e-20
    low = float(bands[:, survey.band_slice(*_THUMP_HZ)].sum()) / total
    high = float(bands[:, survey.band_slice(*_HISS_HZ)].sum()) / total
    voiced = float(np.mean(sung[where]))
    level = db(survey.k_power[where])
    still = survey.state == STILL
    room = float(np.median(db(survey.k_power[still]))) if still.any() else -150.0
    over_room = float(np.percentile(level, _LEVEL_PERCENTILE)) - room
    slow = ndimage.uniform_filter1d(level, max(3, round(_COURSE_S / survey.hop_s)))
    body = level > np.percentile(level, 90) - _BODY_DB
    rough = float(np.std((level - slow)[body]))
    swell = swell_s(smooth, where.start, where.stop, survey.hop_s)
    return float(
        np.interp(voiced, _VOICED_SHARE, [1.0, 0.0])
        * np.interp(low, _LOW_SHARE, [1.0, _THUMP_DOUBT])
        * max(np.interp(high, _HIGH_SHARE, [1.0, _HISS_DOUBT]), np.interp(swell, _SWELL_S, [0.0, 1.0]))
        * np.interp(over_room, _OVER_ROOM_DB, [0.0, 1.0])
        * np.interp(rough, _ROUGH_DB, [1.0, _ROUGH_DOUBT])
    )
