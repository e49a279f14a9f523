"""Finding pops: low bursts that rise fast, end soon, and stand over the voice's own low end.

What tells a blow of air from a sung note, a step or the room (common practice):
energy under 75 Hz, a rise within a few hundredths of a second, an end within 0.3 s,
and singing close by. How much each tells comes from recorded voices (logistic regression, judged on speakers that it
had not seen).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import soxr
from scipy import ndimage, signal

from isophon.core.audio.hum import Hum, hum_of
from isophon.core.audio.loudness import db, lufs
from isophon.core.audio.lowrate import LowRate
from isophon.core.audio.spectra import power_spectra
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.context import LOW_HZ
from isophon.core.passes.pop.mark import PopMark
from isophon.core.passes.stage import Read
from isophon.core.survey import VOICED, Survey

_RATE = 1_000  # Hz, at which the lows are looked at
_HOP = 5  # frames of that rate from one level to the next
_READ = 1 << 18  # frames read at once
_DEEP_HZ, _BURST_HZ = (20.0, 72.0), (20.0, 150.0)  # the bands of its deepest part and of the whole burst
_SMOOTH_S = 0.012  # standard deviation of the smoothing of the levels
_AROUND_S = 1.2  # on either side: where the lows that are there anyway are measured
_PROMINENCE_DB, _APART_S = 6.0, 0.08  # of two peaks of the level
# conditions; the numbers are this program's own
_OVER_OWN_LOWS_DB = 5.0  # its least height over the lows that are there anyway
_UNDER_VOICE_DB = -24.0  # its least height against the voice
_SUNG_DB = 24.0  # what has so much more up to 150 Hz than in its deepest part is a sung note
_RISE_S, _RISE_DB = 0.1, 9.0  # the least that it rises within this time
_USUAL_RISE_DB = 15.0  # taken for the rise of one with which the take begins
_LONGEST_S = 0.32  # s: no burst is longer
_TAPS = 161  # of the filters that part the lows
_SILENT_DB = -150.0  # level where there is nothing
_USUAL_PERCENTILE, _OWN_PERCENTILE = 60, 75  # of the lows of a take, and of those around: what is there anyway
_OVER_OWN_DB = 2.0  # dB over that, at which a burst begins and ends
_REACH_SIZE = 128  # samples of the spectra that tell how high a burst reaches
_REACH_AT = 0.4  # of its length, where that is measured
_REACH_AFTER_S = 0.09  # s after its end: what it is compared with
_REACH_FROM_HZ, _REACH_OVER_DB = 60, 4.0  # Hz and dB: it ends where it stands over that by less
_BEGINS_UNDER_DB, _ENDS_UNDER_DB = 7.0, 12.0  # it begins and ends so far under its peak
_NEAR_VOICE_S = 0.22  # there is voice within this
_LOWEST_REACH_HZ, _HIGHEST_REACH_HZ = 100.0, 400.0  # between which its upper frequency lies
# what speaks for a pop beside its level against the voice: dB of evidence for each dB, up to so many (logistic
# regression on 86 recorded takes with and without known thumps, judged on speakers that were left out)
_EVIDENCE_OVER_LOWS, _EVIDENCE_OF_RISE, _EVIDENCE_OF_HEIGHT = (0.14, 25.0), (0.26, 30.0), (0.42, 10.0)
_LEAST_EVIDENCE_DB, _CLEAR_EVIDENCE_DB = -4.0, 2.0  # from which on there is a mark, and a sure one
_LEAST_CONFIDENCE = 0.5  # of a mark with the least evidence
_COMPRESSED = 1.6  # dB more evidence asked for each dB by which the loud of the voice is nearer to its usual than the
_COMPRESSED_DB = (3.0, 6.5)  # second value, down to the first (chosen on takes put through a compressor)


@dataclass(frozen=True, eq=False)
class Lows:
    """A take's lows: levels every 5 ms in dBFS, ``deep`` 20 to 72 and ``burst`` 20 to 150 Hz; ``wave`` at 1 kHz.

    The levels are those of the power of all sides together, as the voice level is; ``wave``: ``(channels, n)``.
    """

    wave: np.ndarray
    deep: np.ndarray
    burst: np.ndarray


def lows_of(low: LowRate, hum: Hum | None = None, sample_rate: int = 0) -> Lows:
    """The lows of a take without its hum; ``low``: the take at some low rate."""
    stream = soxr.ResampleStream(low.rate, _RATE, low.channels, "float32", "LQ")
    pieces = []
    for at in range(0, low.frames, _READ):
        block = np.ascontiguousarray(low.span(at, at + _READ).T)
        pieces.append(stream.resample_chunk(block, last=at + _READ >= low.frames).reshape(-1, low.channels))
    pieces = pieces or [np.zeros((1, low.channels), np.float32)]
    wave = np.ascontiguousarray(np.concatenate(pieces).T)
    if hum is not None:
        wave -= hum_of(hum, 0, wave.shape[1], _RATE / 2.2, sample_rate / _RATE)
    return Lows(wave, _level(wave, _DEEP_HZ), _level(wave, _BURST_HZ))


def _level(wave: np.ndarray, band: tuple[float, float]) -> np.ndarray:
    taps = signal.firwin(_TAPS, band, pass_zero=False, fs=_RATE).astype(np.float32)
    power = sum(np.square(signal.oaconvolve(channel, taps, "same")) for channel in wave)
    return db(np.maximum(ndimage.gaussian_filter1d(power, _SMOOTH_S * _RATE), 1e-15)[::_HOP])


def find(lows: Lows, survey: Survey) -> tuple[Mark, ...]:
    """The pops of a take."""
    if survey.voice_lufs is None:
        return ()
    hop = _HOP / _RATE
    deep, burst = lows.deep, lows.burst
    voice = np.interp(np.arange(len(deep)) * hop, np.arange(len(survey.voice_level)) * survey.hop_s, survey.voice_level)
    own = _own_lows(deep, hop)
    even = _COMPRESSED * (_COMPRESSED_DB[1] - np.clip(_loud_over_usual_db(survey), *_COMPRESSED_DB))
    padded = np.pad(deep, 1, constant_values=_SILENT_DB)  # a take may begin with one
    peaks = signal.find_peaks(padded, distance=round(_APART_S / hop), prominence=_PROMINENCE_DB)[0] - 1
    marks = []
    for peak in peaks:
        over, under, higher = deep[peak] - own[peak], deep[peak] - voice[peak], burst[peak] - deep[peak]
        if over < _OVER_OWN_LOWS_DB or under < _UNDER_VOICE_DB or higher > _SUNG_DB:
            continue
        first, last = _edges(deep, own, peak)
        rise = deep[peak] - deep[max(0, peak - round(_RISE_S / hop)) : peak + 1].min()
        if peak * hop <= _RISE_S:
            rise = max(rise, _USUAL_RISE_DB)  # the take begins with it
        if (last - first) * hop > _LONGEST_S or rise < _RISE_DB:
            continue
        start, end = max(0.0, float(first * hop)), min(float(last * hop), survey.samples / survey.sample_rate)
        if not _sung_near(survey, start, end):
            continue
        traits = (over, _EVIDENCE_OVER_LOWS), (rise, _EVIDENCE_OF_RISE), (higher, _EVIDENCE_OF_HEIGHT)
        evidence = under - even + sum(each * np.clip(much, 0, most) for much, (each, most) in traits)
        if evidence < _LEAST_EVIDENCE_DB:
            continue
        sure = np.interp(evidence, [_LEAST_EVIDENCE_DB, _CLEAR_EVIDENCE_DB], [_LEAST_CONFIDENCE, 1.0])
        marks.append(_measured(survey, start, end, lows, float(sure)))
    return tuple(_one_each(marks))


def drawn(read: Read, survey: Survey, start: float, end: float) -> Mark:
    """A pop drawn by hand over a span in s, measured like one that was found."""
    begin, rate = max(0.0, start - 1.0), survey.sample_rate
    first = round(begin * rate)
    sides, length = read(first, 1).shape[0], round((end + 1.0 - begin) * rate)
    lows = lows_of(LowRate(lambda at, count: read(first + at, count), rate, length, sides, LOW_HZ))
    return _measured(survey, start, end, lows, 1.0, begin)


def _measured(survey: Survey, start: float, end: float, lows: Lows, sure: float, begin: float = 0.0) -> Mark:
    """A pop with its level, its stand-out and how high its burst reaches; ``lows`` are those from ``begin`` on."""
    frames = slice(survey.frame(start), max(survey.frame(start) + 1, survey.frame(end)))
    voice = float(np.mean(survey.voice_level[frames]))
    inside = lows.deep[int((start - begin) * _RATE / _HOP) : int((end - begin) * _RATE / _HOP) + 1]
    level = float(inside.max()) if len(inside) else _SILENT_DB
    high = _reach(lows.wave, start - begin, end - begin)
    return PopMark(
        mark_id("pop", start), round(start, 4), round(end, 4), round(level, 2), round(level - voice, 2),
        20.0, round(high), round(sure, 3),
    )  # fmt: skip


def _loud_over_usual_db(survey: Survey) -> float:
    """How far the loud of the voice stands over its usual, dB: what evened it raised the bumps under it."""
    level = lufs(survey.k_power[survey.state == VOICED])
    usual, loud = np.percentile(level, (50, 95)) if len(level) else (0.0, 0.0)
    return float(loud - usual)


def _own_lows(deep: np.ndarray, hop: float) -> np.ndarray:
    """What the voice and the room have there anyway: the level that is passed in a fifth of the time around."""
    around = round(2 * _AROUND_S / hop / 4)
    thin = deep[: len(deep) // 4 * 4].reshape(-1, 4).max(axis=1) if len(deep) >= 4 else deep
    usual = float(np.percentile(thin, _USUAL_PERCENTILE))  # beyond the ends
    own = ndimage.percentile_filter(thin, _OWN_PERCENTILE, size=max(3, around), mode="constant", cval=usual)
    return np.interp(np.arange(len(deep)), np.arange(len(own)) * 4 + 1.5, own)


def _edges(deep: np.ndarray, own: np.ndarray, peak: int) -> tuple[int, int]:
    """First and last frame of a burst: where it falls 7 and 12 dB under its peak, or into the lows around."""
    until, begins = (max(deep[peak] - under, own[peak] + _OVER_OWN_DB) for under in (_ENDS_UNDER_DB, _BEGINS_UNDER_DB))
    first = last = peak
    while first > 0 and deep[first] > begins:
        first -= 1
    while last < len(deep) - 1 and deep[last] > until:
        last += 1
    return first - 2, last + 2


def _sung_near(survey: Survey, start: float, end: float) -> bool:
    around = slice(survey.frame(start - _NEAR_VOICE_S), survey.frame(end + _NEAR_VOICE_S) + 1)
    return bool((survey.state[around] == VOICED).any())


def _reach(wave: np.ndarray, start: float, end: float) -> float:
    """Up to which frequency the burst stands over what follows it, Hz."""
    size = _REACH_SIZE
    middle = int((start + _REACH_AT * (end - start)) * _RATE)
    window = np.hanning(size)

    def spectrum(at: int) -> np.ndarray:
        piece = wave[:, max(0, at - size // 2) : max(0, at - size // 2) + size]
        padded = np.pad(piece, ((0, 0), (0, size - piece.shape[1])))
        return power_spectra(padded, window).sum(axis=0)

    here, after = spectrum(middle), spectrum(int((end + _REACH_AFTER_S) * _RATE))
    hz = np.fft.rfftfreq(size, 1 / _RATE)
    over = ndimage.uniform_filter1d(db(here + 1e-12) - db(after + 1e-12), 3)
    ended = np.flatnonzero((hz > _REACH_FROM_HZ) & (over < _REACH_OVER_DB))
    return float(np.clip(hz[ended[0]] if len(ended) else _HIGHEST_REACH_HZ, _LOWEST_REACH_HZ, _HIGHEST_REACH_HZ))


def _one_each(marks: list[Mark]) -> list[Mark]:
    """Marks that overlap become the taller one."""
    apart: list[Mark] = []
    for mark in marks:
        if apart and mark.start < apart[-1].end:
            if mark.standout_db > apart[-1].standout_db:
                apart[-1] = mark
            continue
        apart.append(mark)
    return apart
