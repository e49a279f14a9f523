"""Finding ticks: short peaks of the prediction error that stand alone.

A click in a voice is what its prediction does not explain (Vaseghi & Rayner 1990;
Godsill & Rayner 1998), measured against the error's own level around it, so
that loud and soft places are judged alike. What tells it from the rest (common
practice): T, K and P go on into air or voice, and so does an S; the glottal pulses
of a voice, creaky ones too, have neighbours as tall as themselves. So a tick must
stand over what is beside it on both sides, the next two peaks aside (they come in doubles).
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import soxr
from scipy import ndimage

from isophon.core.audio.loudness import db
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.stage import Read
from isophon.core.passes.tick import damage
from isophon.core.passes.tick.mark import TickMark
from isophon.core.passes.tick.residual import residual
from isophon.core.passes.tick.top import telling_rate
from isophon.core.survey import STILL, VOICED, Survey

_BIN_S = 0.00025
_LEVEL_S, _OVER_LEVEL_DB = 0.012, 12.0
_OWN_S, _BESIDE_S, _FAR_S = 0.0015, 0.022, 0.05
_ASIDE, _ASIDE_VOICED = 6, 2  # bins that a double or an echo may take; pulses of a voice are as short
_HEARD_SCORE_DB, _LEAST_SCORE_DB = 12.0, 20.0
_SCORES_DB, _RIGHT = (_LEAST_SCORE_DB, 27.0, 29.0, 36.0), (0.65, 0.75, 0.95, 1.0)  # how often such a mark is right
_FAINT_DB, _TALL_DB = 18.0, 24.0  # below the first: what a voice does by itself; above the second: no voice does
_USUAL_A_MINUTE, _LEAST_A_MINUTE, _UNKNOWN_MIN = 12.0, 1.0, 0.1  # faint peaks
_AN_OCTAVE_DB, _ROUGHER_DB = 4.0, (-3.0, 8.0)
_STILL_DB = 10.0
_NO_STOP_DB = 45.0  # no stop bursts so far over what follows it
_DOUBLE_BINS, _DOUBLE_DB = 5, 4.0
_TWICE_S, _TWICE_DB = (0.0015, 0.016), 8.0  # two peaks of a mouth so far apart are a double
_CROWD_S, _CROWDED_DB = 0.06, 2.0  # each more peak that is so near
_SAME = 3  # bins by which the bands may differ
_ALIKE_DB, _GOES_ON_DB = 7.0, 7.0
_UNDER_VOICE_DB = 62.0
_LONGEST_S, _EDGE = 0.006, 10  # s, bins
_EDGE_OVER_DB, _RINGS_ON_S = 7.0, 0.0005
_PIECE_S, _MARGIN_S = 15.0, 0.25
_TRAIN_S = 0.004
_FEWEST_BEATS, _BEAT_S, _BEAT_OFF_S = 7, (0.2, 1.6), 0.003
_ALIKE_S, _ALIKE_WAVES = 0.002, 0.75
_STOP_BEFORE_S, _STOP_AFTER_S, _STOP_SCORE_DB = 0.06, 0.25, 12.0  # where consonants burst, more is asked


def find(read: Read, survey: Survey) -> tuple[Mark, ...]:
    """The ticks of a take; of a stereo take, those of both sides together."""
    if survey.voice_lufs is None:
        return ()
    spans: list[tuple[float, float, float]] = []
    for first, width, bins in _bins(read, survey):
        spans += [(first + a, first + b, over) for a, b, over in _standing(bins, width, survey, first)]
    spans = _joined(spans)
    rough = _roughness_db([score for _, _, score in spans], survey.samples / survey.sample_rate / 60)
    starts = np.array([start for start, _, _ in spans])
    spans = [
        (start, end, score - rough + _stiller_db(survey, start) + _company_db(survey, starts, start))
        for start, end, score in spans
    ]
    spans = [span for span in spans if span[2] >= _LEAST_SCORE_DB]
    marks = [_mark(read, survey, *span) for span in _without_beats(read, survey.sample_rate, spans)]
    damaged = damage.find(read, survey)
    marks = [m for m in marks if m.confidence >= _RIGHT[0]]
    marks = [m for m in marks if not any(d.start - _OWN_S < m.end and m.start < d.end + _OWN_S for d in damaged)]
    return tuple(sorted((*marks, *damaged), key=lambda m: m.start))


def drawn(read: Read, survey: Survey, start: float, end: float) -> Mark:
    """A tick drawn by hand, with its level."""
    return _mark(read, survey, start, end, _SCORES_DB[-1])


def _bins(read: Read, survey: Survey) -> Iterator[tuple[float, float, np.ndarray]]:
    """Where each piece begins in s, the width of its bins (about 0.25 ms), and the error's power in them.

    Pieces share nothing but margins.
    """
    rate = telling_rate(read, survey.sample_rate, survey.samples)
    per_bin = max(2, round(_BIN_S * rate))
    fold = survey.sample_rate / rate
    step, margin = (round(round(s * rate) // per_bin * per_bin * fold) for s in (_PIECE_S, _MARGIN_S))
    for at in range(0, survey.samples, step):
        samples = read(at - margin, min(step, survey.samples - at) + 2 * margin)
        if rate != survey.sample_rate:
            samples = soxr.resample(samples.T, survey.sample_rate, rate, "MQ").T
        each = [_power_in_bins(residual(np.ascontiguousarray(channel), rate), per_bin) for channel in samples]
        bins = np.sum(each, axis=0)
        yield (at - margin) / survey.sample_rate, per_bin / rate, bins


def _power_in_bins(error: np.ndarray, per_bin: int) -> np.ndarray:
    whole = error.shape[1] // per_bin * per_bin
    np.square(error, out=error)
    return error[:, :whole].reshape(len(error), -1, per_bin).mean(axis=2)


def _standing(bins: np.ndarray, width: float, survey: Survey, first: float) -> Iterator[tuple[float, float, float]]:
    """(start, end) in s from the piece's begin and a score in dB of each tick.

    ``bins``: ``(bands, n)``, ``width`` s each. The score is by how much it stands over what is beside it, in
    the two bands where that is most.
    """
    level = db(bins + 1e-16)
    around = np.stack([_around(band, width) for band in bins])
    count = level.shape[1]
    voice_at = np.clip(((first + np.arange(count) * width) / survey.hop_s).astype(int), 0, len(survey.voice_level) - 1)
    state = np.asarray(survey.state[voice_at])
    voiced: np.ndarray = np.asarray(state == VOICED)
    least = np.maximum(around + _OVER_LEVEL_DB, survey.voice_level[voice_at] - _UNDER_VOICE_DB)
    own, beside, reach = (round(s / width) for s in (_OWN_S, _BESIDE_S, _FAR_S))
    margin = max(reach, round(_MARGIN_S / width))
    taken = -1
    tall = level > least
    highest = np.where(tall, level - around, 0).max(axis=0)
    peaks = np.flatnonzero(tall.any(axis=0) & (highest >= ndimage.maximum_filter1d(highest, 2 * own + 1)))
    peaks = peaks[(peaks >= margin) & (peaks < count - margin)]
    overs, scores = _scores(level, peaks, voiced, own, beside)
    for i in np.flatnonzero(scores >= _HEARD_SCORE_DB):
        peak, score = int(peaks[i]), float(scores[i])
        tallest = np.argsort(overs[i])[-2:]
        told = level[tallest] if voiced[peak] else level  # in the midst of a voice, what rises elsewhere is the voice
        if peak <= taken or (score < _NO_STOP_DB and _goes_on(told, peak, own, beside)):
            continue
        if _one_of_a_row(level[tallest[-1]], peak, own, beside, reach):
            if state[peak] != STILL:
                continue
            score -= _STILL_DB  # stillness has no pulses, but the room has peaks
        loud = np.greater(level[:, peak - _EDGE : peak + _EDGE + 1], around[:, [peak]] + _EDGE_OVER_DB).any(axis=0)
        begin, stop = peak - _run(loud[:_EDGE][::-1]), peak + _run(loud[_EDGE + 1 :])
        taken = stop
        yield float((begin - 0.5) * width), float((stop + 1.5) * width) + _RINGS_ON_S, score


def _stiller_db(survey: Survey, at: float) -> float:
    """How much less is asked in stillness, away from any voice: nothing else there is as short."""
    return _STILL_DB if survey.state[survey.frame(at)] == STILL and not _beside_voice(survey, at) else 0.0


def _company_db(survey: Survey, starts: np.ndarray, at: float) -> float:
    """How much less is asked of a peak in a voice for the others near it: ticks come alone or as doubles, what a voice
    does by itself in crowds.
    """
    if survey.state[survey.frame(at)] != VOICED:
        return 0.0
    away = np.abs(starts - at)
    twice = bool(((away > _TWICE_S[0]) & (away < _TWICE_S[1])).any())
    crowd = np.count_nonzero(away < _CROWD_S) - 1 - twice
    return _TWICE_DB * twice - _CROWDED_DB * crowd


def _roughness_db(scores: list[float], minutes: float) -> float:
    """How much more is asked of this voice's ticks than of most, dB.

    A rough or creaky voice is full of faint peaks, some of them taller; ticks bring faint ones along too.
    """
    faint = sum(score < _FAINT_DB for score in scores) - sum(score >= _TALL_DB for score in scores) / 2
    a_minute = (faint + _USUAL_A_MINUTE * _UNKNOWN_MIN) / (minutes + _UNKNOWN_MIN)
    octaves = np.log2(max(a_minute, _LEAST_A_MINUTE) / _USUAL_A_MINUTE)
    return float(np.clip(_AN_OCTAVE_DB * octaves, *_ROUGHER_DB))


def _scores(
    level: np.ndarray, peaks: np.ndarray, voiced: np.ndarray, own: int, beside: int
) -> tuple[np.ndarray, np.ndarray]:
    """How far each peak stands over both of its sides, in each band ``(peaks, bands)``; and its score."""
    if not len(peaks):
        return np.zeros((0, len(level))), np.zeros(0)
    windows = np.lib.stride_tricks.sliding_window_view(level, beside - own, axis=1)
    aside = np.where(voiced[peaks], _ASIDE_VOICED, _ASIDE)
    sides, doubled = [], []
    for first in (peaks - beside, peaks + own + 1):
        side = windows[:, first]
        sides.append(_usual(side, aside))
        doubled.append(np.where(voiced[peaks], _usual(_without_double(side), aside) + _DOUBLE_DB, sides[-1]))
    near = np.lib.stride_tricks.sliding_window_view(level, 2 * _SAME + 1, axis=1)[:, peaks - _SAME].max(axis=2)
    # the second of a double may stand on one side, never on both
    least = np.minimum(np.maximum(sides[0], doubled[1]), np.maximum(doubled[0], sides[1]))
    over = (near - least).T
    two = np.sort(np.maximum(over, 0), axis=1)[:, -2:].sum(axis=1)
    return over, two * (2 if over.shape[1] == 1 else 1)


def _usual(side: np.ndarray, aside: np.ndarray) -> np.ndarray:
    """The level that all but a few bins of a side ``(bands, peaks, bins)`` stay under."""
    ordered = np.partition(side, [-_ASIDE, -_ASIDE_VOICED], axis=2)
    return np.where(aside == _ASIDE, ordered[:, :, -_ASIDE], ordered[:, :, -_ASIDE_VOICED])


def _without_double(side: np.ndarray) -> np.ndarray:
    """A side without its tallest moment, the same in all bands."""
    tallest = side.sum(axis=0).argmax(axis=1)
    bins = np.arange(side.shape[2])
    near = np.abs(bins[None, :] - tallest[:, None]) <= _DOUBLE_BINS
    return np.where(near[None], -160.0, side)


def _around(band: np.ndarray, width: float) -> np.ndarray:
    """The usual level of a band around each bin, dB: a median."""
    thin = _middle(band[: len(band) // 4 * 4].reshape(-1, 4))
    middle = ndimage.percentile_filter(thin, 50, size=round(2 * _LEVEL_S / width / 4) | 1)
    return db(np.interp(np.arange(len(band)), np.arange(len(middle)) * 4 + 1.5, middle) + 1e-16)


def _middle(fours: np.ndarray) -> np.ndarray:
    """The median of each row ``(n, 4)``, in a tenth of the usual time."""
    a, b, c, d = fours.T
    lower = np.maximum(np.minimum(a, b), np.minimum(c, d))
    upper = np.minimum(np.maximum(a, b), np.maximum(c, d))
    return (lower + upper) / 2


def _one_of_a_row(level: np.ndarray, peak: int, own: int, beside: int, reach: int) -> bool:
    """Whether peaks nearly as tall stand at about the same distance before and after: pulses of a voice."""
    alike = level[peak] - _ALIKE_DB
    before = np.flatnonzero(level[peak - reach : peak - own] > alike)
    after = np.flatnonzero(level[peak + own + 1 : peak + reach + 1] > alike)
    if not len(before) or not len(after):
        return False
    gap_before, gap_after = reach - before[-1], own + 1 + after[0]
    return 0.6 < gap_before / gap_after < 1.7


def _goes_on(level: np.ndarray, peak: int, own: int, beside: int) -> bool:
    """Whether air or voice follows where there was less before, in any band: a stop's burst."""
    before = np.median(level[:, peak - beside : peak - own], axis=1)
    after = level[:, peak + own + 1 : peak + own + beside]
    soon = after[:, : after.shape[1] // 3]
    return bool(
        ((np.median(soon, axis=1) - before > _GOES_ON_DB) & (np.median(after, axis=1) - before > _GOES_ON_DB / 2)).any()
    )


def _beside_voice(survey: Survey, at: float) -> bool:
    """Whether a moment lies just before or after sung voice, but not within it."""
    if survey.state[survey.frame(at)] == VOICED:
        return False
    before = survey.state[survey.frame(at - _STOP_AFTER_S) : survey.frame(at)]
    after = survey.state[survey.frame(at) : survey.frame(at + _STOP_BEFORE_S) + 1]
    return bool((before == VOICED).any() or (after == VOICED).any())


def _run(over: np.ndarray) -> int:
    """How many of the first are true."""
    return len(over) if over.all() else int(np.argmin(over))


def _joined(spans: list[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Ticks that touch are one."""
    joined: list[tuple[float, float, float]] = []
    for start, end, over in sorted(spans):
        if joined and start - joined[-1][1] < _TRAIN_S / 4 and end - joined[-1][0] < _LONGEST_S:
            joined[-1] = (joined[-1][0], max(end, joined[-1][1]), max(over, joined[-1][2]))
        else:
            joined.append((start, end, over))
    return joined


def _without_beats(read: Read, rate: int, spans: list[tuple[float, float, float]]) -> list[tuple[float, float, float]]:
    """Without those that sound alike and come again after the same time: a leaked click track, which is bleed."""
    starts = np.array([start for start, _, _ in spans])
    if len(starts) < _FEWEST_BEATS:
        return spans
    steps = (starts[None, :] - starts[:, None])[np.triu_indices(len(starts), 1)]
    steps = steps[(steps > _BEAT_S[0]) & (steps < _BEAT_S[1])]
    counts = np.bincount(np.round(steps / _BEAT_OFF_S).astype(int), minlength=2)
    near = counts[:-1] + counts[1:]
    if near.max(initial=0) < _FEWEST_BEATS or near.max() < 5 * near[near > 0].mean():
        return spans
    beat = (np.argmax(near) + 0.5) * _BEAT_OFF_S
    waves = [read(round((a - _ALIKE_S) * rate), round(3 * _ALIKE_S * rate)).mean(axis=0) for a in starts]
    beats = set()
    for i, start in enumerate(starts):
        for j in np.flatnonzero(np.abs(starts - start - beat) < _BEAT_OFF_S):
            if _likeness(waves[i], waves[j]) > _ALIKE_WAVES:
                beats |= {i, int(j)}
    return [span for i, span in enumerate(spans) if i not in beats]


def _likeness(one: np.ndarray, other: np.ndarray) -> float:
    """The highest correlation of two sounds, 0 to 1, bright parts first."""
    a, b = np.diff(one), np.diff(other)
    norm = np.sqrt(np.sum(a**2) * np.sum(b**2))
    return float(np.abs(np.correlate(a, b, "full")).max() / (norm + 1e-20))


def _mark(read: Read, survey: Survey, start: float, end: float, over: float) -> Mark:
    rate = survey.sample_rate
    first = max(0, round(start * rate))
    frames = max(8, round((end - start) * rate))
    wave = np.diff(
        read(first - 1, frames + 1).astype(np.float64), axis=1
    )  # a tick is bright: its slope tells its level
    level = db(float(np.square(wave).sum(axis=0).max()) + 1e-16)
    voice = float(survey.voice_level[survey.frame(start)])
    if _beside_voice(survey, start):
        over -= _STOP_SCORE_DB
    sure = float(np.interp(over, _SCORES_DB, _RIGHT, left=0.0))
    return TickMark(
        mark_id("tick", start), round(first / rate, 5), round((first + frames) / rate, 5), round(level, 2),
        round(level - voice, 2), 1_000.0, min(20_000.0, rate / 2), round(sure, 3),
        voiced=bool(survey.state[survey.frame(start)] != STILL),
    )  # fmt: skip
