"""Short peaks of the prediction error, and how each differs from what sounds beside it.

A click in a voice is what its prediction does not explain (Vaseghi & Rayner 1990; Godsill & Rayner 1998). The glottal
pulses of the voice are such peaks too; they have neighbours as tall, and like themselves: the similarity to the wave
one to several pulses away is the long-term prediction of Vaseghi & Rayner 1990.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import soxr
from scipy import fft, ndimage, signal

from isophon.core.audio.loudness import db
from isophon.core.passes.stage import Read
from isophon.core.passes.tick.residual import residual
from isophon.core.passes.tick.top import telling_rate
from isophon.core.survey import STILL, VOICED, Survey

BANDS = 3  # a take of a low rate has fewer; its highest then stands for those above
_BIN_S = 0.00025  # s: the levels of the prediction error are measured in bins of this length
_PIECE_S = 15.0  # s of the take measured at once
_MARGIN_S = 0.25  # s around each piece that are measured with it, and not looked for peaks
_LEVEL_S = 0.012  # the usual level of a band is the median of so much on either side
_OWN_S = 0.0015  # s to either side that belong to the peak itself
# s to either side: the neighbours that over_near compares with, a glottal pulse or two of a deep voice
_BESIDE_S = 0.022
_FAR_S = 0.05  # s to either side: what over_far compares with
_LEAST_DB = 18.0  # over the usual level, of two bands together, that make a peak
_LEAST_OVER_SIDES_DB = 2.0  # and over the highest but one of its sides
_UNDER_VOICE_DB = 62.0  # deeper under the voice level nothing is audible
_WIDE_DB = 20.0  # the width of a peak is measured so far under it
_SOON_S, _MOST_CHANGE_DB, _MOST_FALL_DB = 0.007, 24.0, 40.0  # further tells no more: it may be digital silence
_DOUBLE_S = (0.0015, 0.016)  # a mouth's double
_EDGE, _EDGE_OVER_DB, _RINGS_ON_S = 10, 7.0, 0.0005  # bins, dB, s
_WAVE_HZ = 2_000.0  # Hz over which waves are compared: the low partials are alike everywhere
_WAVE_S = (0.001, 0.0015)  # s before and after the middle of the peak that are compared
_LAG_S = (0.0025, 0.018)  # s: the distances at which they are compared, one to several periods of a voice
_STOP_BEFORE_S = 0.06  # s before a voice starts in which its stops burst
_STOP_AFTER_S = 0.25  # s after a voice ends in which its last stops burst


@dataclass(frozen=True, eq=False)
class Peaks:
    """The peaks of a take, in order of time; arrays ``(n,)``.

    ``start``, ``end``: s. ``voiced``, ``still``: the state of the survey there. Levels are in dB, of the two bands
    in which a peak stands out most together: ``over_far``: over all but three moments within 50 ms; ``over_near``:
    over the tallest moment within 22 ms; ``crest``: its highest sample over its mean, against what is usual there;
    ``falls``: how far it has come down after 1.5 ms. ``over_other``: its highest sample over all but one within
    22 ms, in the best band. ``width``: how many of the bins around are within 20 dB of it. ``change``: by how much
    the 7 ms after differ from before, in the band where they do most. ``like_less``, ``like_more``: how much of its
    wave above 2 kHz that of one side explains, and of the other, 0 to 1. ``double``: how far another peak 1.5 to
    16 ms away stands over its sides. ``crowd``: peaks in the voice in a second of the whole take. ``beside``: 1 just
    before or after the voice.
    """

    start: np.ndarray
    end: np.ndarray
    voiced: np.ndarray
    still: np.ndarray
    over_far: np.ndarray
    over_near: np.ndarray
    crest: np.ndarray
    falls: np.ndarray
    over_other: np.ndarray
    width: np.ndarray
    change: np.ndarray
    like_less: np.ndarray
    like_more: np.ndarray
    double: np.ndarray
    crowd: np.ndarray
    beside: np.ndarray


def peaks_of(read: Read, survey: Survey) -> Peaks:
    """All short peaks of a take; of a stereo take, those of both sides together.

    Parameters
    ----------
    read : reads the take.
    survey : what is measured of it.
    """
    found: dict[str, list[np.ndarray]] = {}
    for piece in _pieces(read, survey):
        for name, values in _measured(piece, survey).items():
            found.setdefault(name, []).append(values)
    each = {name: np.concatenate(values) for name, values in found.items()}
    order = np.argsort(each["at"])
    at, over_sides, *_ = (each.pop(name)[order] for name in ("at", "over_sides"))
    each = {name: values[order] for name, values in each.items()}
    crowd = np.count_nonzero(each["voiced"]) / (survey.samples / survey.sample_rate)
    return Peaks(
        **each, double=_double(at, over_sides), crowd=np.full(len(at), crowd),
        beside=np.array([float(beside_voice(survey, moment)) for moment in at]),
    )  # fmt: skip


def beside_voice(survey: Survey, at: float) -> bool:
    """Whether a moment lies just before or after sung voice, but not within it: where stops burst."""
    if survey.state[survey.frame(at)] == VOICED:
        return False
    before = survey.state[survey.frame(at - _STOP_AFTER_S) : survey.frame(at)]
    after = survey.state[survey.frame(at) : survey.frame(at + _STOP_BEFORE_S) + 1]
    return bool((before == VOICED).any() or (after == VOICED).any())


@dataclass(frozen=True, eq=False)
class _Piece:
    """``first``: where it begins in the take, s. ``power``, ``highest``: mean and highest square of the prediction
    error in bins of ``width`` s, ``(bands, bins)``; ``wave``: the samples ``(n,)`` at ``rate``, above 2 kHz.
    """

    first: float
    width: float
    power: np.ndarray
    highest: np.ndarray
    wave: np.ndarray
    rate: int


def _pieces(read: Read, survey: Survey) -> Iterator[_Piece]:
    """The take in pieces that share nothing but margins."""
    rate = telling_rate(read, survey.sample_rate, survey.samples)
    per_bin = max(2, round(_BIN_S * rate))
    fold = survey.sample_rate / rate
    step, margin = (round(round(s * rate) // per_bin * per_bin * fold) for s in (_PIECE_S, _MARGIN_S))
    high_pass = signal.butter(3, min(_WAVE_HZ, 0.3 * rate), "high", fs=rate, output="sos")
    for at in range(0, survey.samples, step):
        samples = read(at - margin, min(step, survey.samples - at) + 2 * margin)
        if rate != survey.sample_rate:
            samples = soxr.resample(samples.T, survey.sample_rate, rate, "MQ").T
        each = [_in_bins(residual(np.ascontiguousarray(channel), rate), per_bin) for channel in samples]
        power, highest = (_of_all_bands(np.sum(both, axis=0)) for both in zip(*each, strict=True))
        wave = signal.sosfiltfilt(high_pass, samples.mean(axis=0))
        yield _Piece((at - margin) / survey.sample_rate, per_bin / rate, power, highest, wave, rate)


def _in_bins(error: np.ndarray, per_bin: int) -> tuple[np.ndarray, np.ndarray]:
    complete = error.shape[1] // per_bin * per_bin
    bins = np.square(error[:, :complete]).reshape(len(error), -1, per_bin)
    return bins.mean(axis=2), bins.max(axis=2)


def _of_all_bands(bins: np.ndarray) -> np.ndarray:
    return np.concatenate([bins, np.repeat(bins[-1:], BANDS - len(bins), axis=0)])


def _measured(piece: _Piece, survey: Survey) -> dict[str, np.ndarray]:
    """What is measured of each peak of a piece, by the names of :class:`Peaks`; also its time and over its sides."""
    width, level, top = piece.width, db(piece.power + 1e-16), db(piece.highest + 1e-16)
    around = np.stack([_around(band, width) for band in piece.power])
    over, over_top = level - around, top - around
    own, beside, far = (round(s / width) for s in (_OWN_S, _BESIDE_S, _FAR_S))
    count = level.shape[1]
    frame = np.clip(((piece.first + np.arange(count) * width) / survey.hop_s).astype(int), 0, len(survey.state) - 1)
    two = np.sort(over, axis=0)[-2:].sum(axis=0)
    near_voice = (level > survey.voice_level[frame] - _UNDER_VOICE_DB).any(axis=0)
    tallest = two >= ndimage.maximum_filter1d(two, 2 * own + 1)
    peaks = np.flatnonzero(near_voice & tallest & (two > _LEAST_DB))
    margin = max(far, round(_MARGIN_S / width))
    peaks = peaks[(peaks >= margin) & (peaks < count - margin)]
    sides = np.concatenate([np.arange(-beside, -own), np.arange(own + 1, beside + 1)])
    first, last = slice(0, beside - own), slice(beside - own, None)
    here = np.arange(-1, 2)

    def over_sides(levels: np.ndarray, aside: int) -> np.ndarray:
        """How far each peak stands over all but ``aside`` bins of either side, ``(bands, peaks)``."""
        beside_it = levels[:, peaks[:, None] + sides]
        usual = [np.partition(beside_it[..., side], -1 - aside, axis=2)[..., -1 - aside] for side in (first, last)]
        return levels[:, peaks[:, None] + here].max(axis=2) - np.maximum(*usual)

    standing = over_sides(level, 1)
    best = np.argsort(standing, axis=0)[-2:]
    some = np.take_along_axis(standing, best, axis=0).sum(axis=0) >= _LEAST_OVER_SIDES_DB
    peaks, standing, best = peaks[some], standing[:, some], best[:, some]
    window = peaks[:, None] + np.arange(-far, far + 1)
    joint, joint_top = (levels[best[0][:, None], window] + levels[best[1][:, None], window]
                        for levels in (over, over_top))  # fmt: skip
    tall = joint[:, far - 1 : far + 2].max(axis=1)
    others = np.concatenate([joint[:, : far - own], joint[:, far + own + 1 :]], axis=1)
    within = joint[:, far - own : far + own + 1]
    like = np.sort(_likeness(piece, peaks), axis=0)
    start, end = _extent(over, peaks, width)
    state = np.asarray(survey.state[frame[peaks]])
    return {
        "at": piece.first + peaks * width,
        "over_sides": np.sort(standing, axis=0)[-2:].sum(axis=0),
        "start": piece.first + start, "end": piece.first + end,
        "voiced": (state == VOICED).astype(float), "still": (state == STILL).astype(float),
        "over_far": tall - np.partition(others, -4, axis=1)[:, -4],
        "over_near": tall - joint[:, far + sides].max(axis=1),
        "crest": joint_top[:, far - 1 : far + 2].max(axis=1) - tall,
        "falls": np.minimum(tall - joint[:, far + own], _MOST_FALL_DB),
        "over_other": over_sides(top, 1).max(axis=0),
        "width": np.count_nonzero(within > tall[:, None] - _WIDE_DB, axis=1).astype(float),
        "change": _change(level, peaks, own, beside, round(_SOON_S / width)),
        "like_less": like[0], "like_more": like[1],
    }  # fmt: skip


def _change(level: np.ndarray, peaks: np.ndarray, own: int, beside: int, soon: int) -> np.ndarray:
    """By how much the level differs before and soon after each peak, in the band where it does most; dB, 0 to 24."""
    before = np.median(level[:, peaks[:, None] + np.arange(-beside, -own)], axis=2)
    after = np.median(level[:, peaks[:, None] + np.arange(own + 1, own + 1 + soon)], axis=2)
    return np.minimum(np.abs(after - before).max(axis=0), _MOST_CHANGE_DB)


def _extent(over: np.ndarray, peaks: np.ndarray, width: float) -> tuple[np.ndarray, np.ndarray]:
    """Where each peak begins and ends, s from the begin of the piece: as long as it stands over the usual."""
    around = over[:, peaks[:, None] + np.arange(-_EDGE, _EDGE + 1)]
    loud = np.greater(around, _EDGE_OVER_DB).any(axis=0)
    before, after = _run(loud[:, :_EDGE][:, ::-1]), _run(loud[:, _EDGE + 1 :])
    return (peaks - before - 0.5) * width, (peaks + after + 1.5) * width + _RINGS_ON_S


def _run(over: np.ndarray) -> np.ndarray:
    """How many of the first of each row are true."""
    return np.where(over.all(axis=1), over.shape[1], np.argmin(over, axis=1))


def _likeness(piece: _Piece, peaks: np.ndarray) -> np.ndarray:
    """How much of each peak's wave the most similar one before it explains, and the most similar after; ``(2, n)``.

    The square of the normalised correlation, 0 where they are of opposite sign.
    """
    rate = piece.rate
    before, after = (round(s * rate) for s in _WAVE_S)
    least, most = (round(s * rate) for s in _LAG_S)
    middle = np.round((peaks + 0.5) * piece.width * rate).astype(int)
    mine = piece.wave[middle[:, None] + np.arange(-before, after)]
    both = []
    for ways in (np.arange(-before - most, after - least), np.arange(least - before, most + after)):
        beside = piece.wave[middle[:, None] + ways]
        size = fft.next_fast_len(len(ways) + mine.shape[1], real=True)
        spectrum = fft.rfft(beside, size, axis=1) * fft.rfft(mine, size, axis=1).conj()
        lags = len(ways) - mine.shape[1] + 1
        together = np.maximum(fft.irfft(spectrum, size, axis=1)[:, :lags], 0)
        sums = np.cumsum(np.pad(np.square(beside), ((0, 0), (1, 0))), axis=1)
        power = sums[:, mine.shape[1] :] - sums[:, : -mine.shape[1]]
        own = np.square(mine).sum(axis=1, keepdims=True)
        both.append((np.square(together) / (power * own + 1e-30)).max(axis=1, initial=0))
    return np.minimum(np.array(both), 1)


def _double(at: np.ndarray, over_sides: np.ndarray) -> np.ndarray:
    """How far the tallest other peak at the distance of a double stands over its sides; 0 where there is none."""
    double = np.zeros(len(at))
    for i, moment in enumerate(at):
        near = slice(*np.searchsorted(at, (moment - _DOUBLE_S[1], moment + _DOUBLE_S[1])))
        away = np.abs(at[near] - moment)
        double[i] = np.max(over_sides[near], where=(away > _DOUBLE_S[0]) & (away < _DOUBLE_S[1]), initial=0)
    return double


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
