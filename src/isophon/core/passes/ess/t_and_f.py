"""T and F: the other hissing sounds, separated from the esses so that they can be left as they are.

A T is a burst out of a closure (silence, then everything at once, gone within a tenth of a second) with most of its
energy above 4 kHz, where a K has it below; an F is a steady noise beside a voiced sound, flatter than the S of the
same mouth and weaker (Jongman, Wayland & Wong 2000; Stevens 1998, "Acoustic Phonetics", ch. 7 and 8). Both are judged
against the voice around them and this singer's own S. Limits fitted to ten synthetic and seven recorded speakers.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec.structs import replace
from scipy import ndimage

from isophon.core.audio.loudness import db, lufs
from isophon.core.passes.ess.floored import Floored
from isophon.core.passes.ess.mark import EssMark
from isophon.core.survey import VOICED, Survey

_HISS_HZ = 1_500  # Hz over which the sounds of T and F are measured
_LEAST_OVER_VOICE = -36.0  # dB against the voice level: softer hiss is nothing
_BEFORE_S = 0.025  # s before a sound that are taken for what it rises from
_RISE_S = 0.02  # s in which it rises
_AROUND_S = 0.2  # s around it in which a voice may touch it
_T_S = (0.01, 0.1)  # s: the shortest and the longest T
_T_PEAK_S = 0.03  # s after its start in which a T is loudest
_T_RISE_DB = 28.0  # dB by which it rises
_T_CLOSED_DB = -18.0  # dB against the voice level under which the closure before it lies
_T_PAUSE_S = 0.02  # s of closure before it
_T_LEAST_DB = -24.0  # dB against the voice level that it reaches
_T_SHARE_DB = -3.0  # dB of its upper hiss against all of it
_T_FLAT_DB = 15.0  # dB: the strongest band over the median one: more is a whistle
_F_S = (0.045, 0.3)  # s: the shortest and the longest F
_F_LEAST_DB = -26.0  # dB against the voice level that an F reaches
_F_SHARE_DB = -6.0  # dB of its upper hiss against all of it
_F_FLAT_DB = 12.0  # dB: the strongest band over the median one: an ess has more
_F_TOUCHES_S = 0.025  # s from a voice that it may lie
_AFFRICATE_S = 0.03  # s: a T that lies nearer before an ess belongs to it
_STRUCK_S = 0.025  # s after its start in which what is struck is loudest
_SHORT_S, _SHORT_SURE, _UNDER_DB = 0.068, 0.9, 1.5  # a T taken for an ess
_F_TOLD_S, _F_UNDER_DB, _F_FLATTER, _V_FLATTER = 0.09, 6.0, 0.65, 0.35  # an F, or a V, taken for one
_F_FAR_UNDER_DB = 10.0  # dB under the singer's usual ess, at which an ess is an F
_F_SURE = 0.92  # confidence over which it stays an ess
_F_EVER_SURE = 0.97  # and however flat it is
_FEWEST = 3  # sure esses that tell the usual
_LOWS_HZ, _LOWER_HZ, _UPPER_HZ = (0, 1_000), (1_900, 3_600), (4_400, np.inf)  # Hz
_TOP_UNKNOWN_DB = 5.0  # share of the upper hiss where the rate has no top
_CLOSURE = (6, 1)  # frames before a span between which its closure lies
_SURE_ESS = 0.9  # confidence of an ess that tells the usual
# confidence: at the least share (of a T) or the most flatness (of an F), a dB better, the least and the most
_T_CONFIDENCE, _F_CONFIDENCE = (0.6, 0.04, 0.5, 0.95), (0.6, 0.03, 0.5, 0.9)


class Sounds:
    """What is asked about a span: levels per frame of the take, in dB."""

    def __init__(self, survey: Survey, bands: Floored, k_bands: Floored) -> None:
        self.survey, self.hop_s = survey, survey.hop_s
        self.above = survey.band_slice(_HISS_HZ, np.inf)
        self.width = np.diff(survey.band_edges)[self.above]
        self._bands = bands
        self.hiss = lufs(k_bands.sum(self.above))
        self.over_voice = self.hiss - survey.voice_level
        self.lows = db(bands.sum(survey.band_slice(*_LOWS_HZ)))
        upper, lower = survey.band_slice(*_UPPER_HZ), survey.band_slice(*_LOWER_HZ)
        known = upper.stop > upper.start
        self.share = db(bands.sum(upper)) - db(bands.sum(lower)) if known else np.full(len(self.hiss), _TOP_UNKNOWN_DB)
        self.voiced = survey.state == VOICED

    def frames(self, seconds: float) -> int:
        return max(1, round(seconds / self.hop_s))

    def flatness(self, span: slice) -> float:
        """How far the strongest band stands over the median one, by density, dB; little where the noise is flat."""
        density = db(self._bands.left(span, self.above).mean(axis=0) / self.width)
        return float(density.max() - np.median(density))

    def rise(self, span: slice) -> float:
        """How far the hiss jumps where the span begins, dB."""
        before = self.hiss[max(0, span.start - self.frames(_BEFORE_S)) : span.start + 1]
        after = self.hiss[span.start : min(span.stop, span.start + self.frames(_RISE_S))]
        return float(after.max() - before.min())

    def closed(self, span: slice) -> float:
        """How loud the lows are in the closure before a span, in dB over the voice."""
        before = self.lows[max(0, span.start - _CLOSURE[0]) : max(1, span.start - _CLOSURE[1])]
        return float(np.median(before) - self.survey.voice_level[span.start])

    def touches(self, span: slice) -> tuple[int, int]:
        """How many frames lie between a span and the voiced sounds before and after it, many for none near."""
        reach = self.frames(_AROUND_S)
        before = np.flatnonzero(self.voiced[max(0, span.start - reach) : span.start][::-1])
        after = np.flatnonzero(self.voiced[span.stop : span.stop + reach])
        return int(before[0]) if len(before) else reach, int(after[0]) if len(after) else reach


def _confidence(better_db: float, start: float, a_db: float, least: float, most: float) -> float:
    return float(np.clip(start + a_db * better_db, least, most))


def _span(sounds: Sounds, mark: EssMark) -> slice:
    first = sounds.survey.frame(mark.start)
    return slice(first, max(first + 1, sounds.survey.frame(mark.end)))


def separated(sounds: Sounds, esses: Sequence[EssMark]) -> list[EssMark]:
    """Doubtful esses against this singer's sure ones: short bursts are T's, flat and weak ones F's."""
    sure = [m for m in esses if not m.voiced and m.confidence > _SURE_ESS]
    if len(sure) < _FEWEST:
        return list(esses)
    usual = float(np.median([m.standout_db for m in sure]))
    flat = float(np.median([sounds.flatness(_span(sounds, m)) for m in sure]))
    return [replace(m, sound=_sound_of(sounds, m, usual, flat)) for m in esses]


def _sound_of(sounds: Sounds, mark: EssMark, usual: float, flat: float) -> str:
    span, under = _span(sounds, mark), usual - mark.standout_db
    if mark.voiced:  # a Z has the peak of the S of the same mouth, a V none
        flat_and_weak = under >= _F_UNDER_DB and sounds.flatness(span) <= _V_FLATTER * flat
        return "f" if flat_and_weak else mark.sound
    short = mark.end - mark.start < _SHORT_S and mark.confidence < _SHORT_SURE and under > _UNDER_DB
    if short and sounds.closed(span) <= -20 and float(sounds.share[span].mean()) >= 0:
        return "t"
    if mark.end - mark.start < _F_TOLD_S:
        return mark.sound
    flatter = under >= _F_UNDER_DB and mark.confidence < _F_EVER_SURE and sounds.flatness(span) <= _F_FLATTER * flat
    return "f" if flatter or (under >= _F_FAR_UNDER_DB and mark.confidence < _F_SURE) else mark.sound


def others(sounds: Sounds, esses: Sequence[EssMark]) -> Iterator[tuple[int, int, str, float]]:
    """The hissing stretches without voice that are no esses and are a T or an F: frames, sound, confidence."""
    hissing = ~sounds.voiced & (sounds.over_voice > _LEAST_OVER_VOICE)
    for mark in esses:
        span = _span(sounds, mark)
        hissing[max(0, span.start - 1) : span.stop + 1] = False
    hissing = ndimage.binary_closing(hissing, np.ones(2))
    starts = np.array([_span(sounds, mark).start for mark in esses])
    near = sounds.frames(_AFFRICATE_S)
    for (where,) in ndimage.find_objects(ndimage.label(hissing)[0]):
        span = slice(where.start, where.stop)
        if span.stop - span.start < 2 or np.any((starts >= span.stop - 1) & (starts - span.stop < near)):
            continue  # the burst of an affricate belongs to the ess after it
        for sound, judged in (("t", _like_t), ("f", _like_f)):
            confidence = judged(sounds, span)
            if confidence > 0:
                yield span.start, span.stop, sound, confidence
                break


def _like_t(sounds: Sounds, span: slice) -> float:
    """How sure it is that a stretch is a T, 0 for not at all."""
    seconds = (span.stop - span.start) * sounds.hop_s
    peak = int(np.argmax(sounds.over_voice[span]))
    share = float(sounds.share[span].mean())
    fits = (
        _T_S[0] <= seconds <= _T_S[1]
        and peak * sounds.hop_s <= _T_PEAK_S
        and sounds.over_voice[span].max() >= _T_LEAST_DB
        and share >= _T_SHARE_DB
        and sounds.rise(span) >= _T_RISE_DB
        and sounds.closed(span) <= _T_CLOSED_DB
        and sounds.touches(span)[0] >= sounds.frames(_T_PAUSE_S)
        and sounds.flatness(span) <= _T_FLAT_DB
    )
    return _confidence(share - _T_SHARE_DB, *_T_CONFIDENCE) if fits else 0.0


def _like_f(sounds: Sounds, span: slice) -> float:
    """The same of an F."""
    seconds = (span.stop - span.start) * sounds.hop_s
    share = float(sounds.share[span].mean())
    struck = int(np.argmax(sounds.over_voice[span])) * sounds.hop_s < _STRUCK_S and sounds.rise(span) >= _T_RISE_DB
    fits = (
        not struck
        and _F_S[0] <= seconds <= _F_S[1]
        and sounds.over_voice[span].max() >= _F_LEAST_DB
        and share >= _F_SHARE_DB
        and float((sounds.hiss[span] - sounds.lows[span]).mean()) >= -3
        and min(sounds.touches(span)) <= sounds.frames(_F_TOUCHES_S)
        and (flat := sounds.flatness(span)) <= _F_FLAT_DB
    )
    return _confidence(_F_FLAT_DB - flat, *_F_CONFIDENCE) if fits else 0.0
