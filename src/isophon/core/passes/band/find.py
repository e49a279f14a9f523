"""Finding bands: resonances of room and microphone, that stay put while pitch and vowels move.

Two things are measured. The partials of the sung notes: how far each stands over the same frame's own envelope on both
sides, over many frames and notes; a formant moves with the vowel and a note with the melody, a ring stands in nearly
all of them, so a low quantile is asked (common practice: the long-term spectrum alone shows the singer's formants as
well). And the noise floor: what a room or a microphone colours, it colours in its own noise too, where no throat does.
Where the noise floor tells nothing (digital silence), unvoiced sounds are asked instead, and must say it more clearly;
what only the partials say is shown as unsure.
"""

from __future__ import annotations

import numpy as np
from scipy import fft

from isophon.core.audio.bell import Bell, power_response
from isophon.core.marks import mark_id
from isophon.core.passes.band import loud, mud
from isophon.core.passes.band.grid import (
    HIGH_HZ,
    LOW_HZ,
    NEAR_CELLS,
    PER_OCTAVE,
    Partials,
    fitted,
    grid,
    on_grid,
    powers,
)  # fmt: skip
from isophon.core.passes.band.mark import ALWAYS, LOUD, BandMark
from isophon.core.passes.band.settings import centre_of, edges_of
from isophon.core.passes.context import FinderContext
from isophon.core.survey import STILL, UNVOICED, Survey

_SIZE_S = 0.085  # s: length of a spectrum, long enough to separate the partials of a low voice
_HOP_S = 0.032  # s between spectra
_STEADY = 0.15  # octaves that the pitch may move within a frame
_FEWEST = 8  # partials near a frequency, weighted, of which a quantile is taken
_FEWEST_NOTES = 4  # different notes there: one note alone looks like a ring
_OFTEN, _USUALLY = 0.2, 0.5  # quantiles of the frames
_APART, _REACH = 1 / 6, 0.75  # octaves: where the envelope beside a partial is looked for
_LEAST_OFTEN_DB = 0.8  # dB that four in five partials stand out by, at least, where the noise floor says the same
_LEAST_USUALLY_DB = 2.5  # and half of them
_LEAST_STILL_DB = 2.0  # dB of the bell in the noise floor
_ALONE_OFTEN_DB = 6.0  # dB that four in five stand out by where nothing else is known
_WEAK_OFTEN_DB = 3.5  # the first, where only consonants say the same
_WEAK_DB = 4.0  # dB of the bell in these
_UNSURE = 0.4  # confidence of a band that only the partials show
_MOST_UNSURE = 2  # of such are shown
_STILL_S = 0.17  # s: length of a spectrum of the noise floor
_STILL_MARGIN_S = 0.09  # s around it in which nothing else sounds
_CONSONANT_MARGIN_S = 0.02  # the same for consonants
_FEWEST_STILL = 12  # spectra that tell the noise floor
_SILENT_DBFS = -110.0  # dBFS: a softer noise floor is digital silence
_MOST_BANDS = 8  # that are shown
_MOST_LOOKED_AT = 24  # peaks that are tried
_LEAST_BUMP_DB = 1.5  # dB that the noise floor must rise there to be fitted
_MOST_FRAMES = 1_200  # that are measured: more tell nothing new
_ALONE_Q = 8.0  # of a band whose width nothing tells
_PITCH_AROUND = 0.3  # of a spectrum's length before and after, between which the pitch must be steady
_BAND = 0.46  # of the rate: partials over it are left
# how near its multiple a partial is looked for: lines of the spectrum at least; of its pitch and frequency at most
_PEAK_LINES, _PEAK_OF_PITCH, _PEAK_OF_HZ = 1.5, 0.3, 0.03
_ALONE_MOST_DB = 12.0  # dB: no band that only the partials show is taken for louder
_SURE_FROM, _SURE_A_DB, _SURE_MOST = 0.6, 0.03, 0.95  # confidence of a band that the noise floor shows, by its gain
_BUMP_CELLS = (6, 12)  # cells: what lies between these beside a cell is what it rises from


def find(context: FinderContext) -> tuple[BandMark, ...]:
    """The bands of a take: always there, and those that speak only when the voice is loud."""
    survey, low = context.survey, context.low
    if survey.voice_lufs is None or low.frames < low.rate:
        return ()
    both = low.span(0, low.frames)
    samples = both[0] if len(both) == 1 else both.mean(axis=0)
    measured = partials(samples, low.rate, survey)
    still = noise_floor(samples, low.rate, survey)
    witness = consonants(samples, low.rate, survey) if still is None else still
    end = survey.samples / survey.sample_rate
    broad = None if still is None else mud.find(still, survey)
    marks = [] if broad is None else [_mark(0.0, end, *broad)]
    if broad is not None and witness is not None:
        witness = witness - 10 * np.log10(power_response(broad[0], grid()))
    marks += [_mark(0.0, end, bell, sure) for bell, sure in rings(measured, witness, still is not None)]
    known = [centre_of(m)[0] for m in marks]
    for band in loud.find(samples, low.rate, survey, measured, known):
        marks += _words_of(band)
    return tuple(marks)


def _mark(start: float, end: float, bell: Bell, sure: float) -> BandMark:
    low, high = edges_of(bell.freq_hz, bell.q)
    name = f"{mark_id('band', start)}-{bell.freq_hz:.0f}"
    return BandMark(
        name, round(start, 4), round(end, 4), round(bell.gain_db, 2), round(bell.gain_db, 2),
        round(low, 1), round(high, 1), sure, shape=ALWAYS,
    )  # fmt: skip


def _words_of(band: loud.LoudBand) -> list[BandMark]:
    """A mark for each word of a band by level."""
    low, high = edges_of(band.freq_hz, band.q)
    taken: set[str] = set()
    marks = []
    for word in band.words:
        name = f"{mark_id('band', word.start, taken)}-{band.freq_hz:.0f}"
        taken.add(name)
        marks.append(BandMark(
            name, round(word.start, 4), round(word.end, 4), word.level_lufs, word.standout_db, round(low, 1),
            round(high, 1), word.sure, shape=LOUD, by="level", usual_db=band.usual_db,
        ))  # fmt: skip
    return marks


def partials(samples: np.ndarray, rate: int, survey: Survey) -> Partials:
    """The partials of the steady voiced frames; of very many frames, some evenly chosen.

    Parameters
    ----------
    samples : ``(n,)``.
    rate : Hz.
    survey : what is measured of the take.
    """
    size, hop = fft.next_fast_len(round(_SIZE_S * rate), real=True), round(_HOP_S * rate)
    at = np.arange(len(samples) // hop) * hop / rate
    frame = np.clip(np.round(at / survey.hop_s).astype(int), 0, len(survey.f0) - 1)
    around = max(1, round(_PITCH_AROUND * _SIZE_S / survey.hop_s))
    before, after = (survey.f0[np.clip(frame + by, 0, len(survey.f0) - 1)] for by in (-around, around))
    with np.errstate(divide="ignore", invalid="ignore"):
        even = np.abs(np.log2(after / before)) < _STEADY
    steady = np.flatnonzero((survey.f0[frame] > 0) & (before > 0) & (after > 0) & even)
    steady = steady[:: -(-len(steady) // _MOST_FRAMES) or 1]
    if not len(steady):
        return Partials(*np.zeros((5, 0)))
    f0, power, width = survey.f0[frame[steady]], powers(samples, steady * hop, size), rate / size
    top = min(HIGH_HZ, _BAND * rate)
    count = int(top / f0.min())
    octave, level = np.full((2, len(steady), count), np.nan)
    row = np.arange(len(steady))[:, None]
    for k in range(1, count + 1):  # the peak near each multiple of the pitch, in all frames at once
        inside = np.flatnonzero(k * f0 <= top)
        hz = k * f0[inside]
        near = np.maximum(_PEAK_LINES * width, np.minimum(_PEAK_OF_PITCH * f0[inside], _PEAK_OF_HZ * hz))
        first, last = np.maximum(1, (hz - near) // width).astype(int), np.ceil((hz + near) / width).astype(int) + 1
        bins = first[:, None] + np.arange((last - first).max())
        seen = np.where(bins < last[:, None], power[row[inside], np.minimum(bins, power.shape[1] - 1)], 0)
        peak = seen.argmax(axis=1)
        octave[inside, k - 1] = np.log2((first + peak) * width / LOW_HZ)
        level[inside, k - 1] = 10 * np.log10(seen[np.arange(len(inside)), peak] + 1e-16)
    over = _over_envelope(octave, level)
    loud = 10 * np.log10(survey.k_power[frame[steady]] + 1e-14)
    known = np.isfinite(over)
    spread = (np.broadcast_to(v[:, None], over.shape)[known] for v in (f0, loud, at[steady]))
    return Partials(PER_OCTAVE * octave[known], over[known], *spread)


def _over_envelope(octave: np.ndarray, level: np.ndarray) -> np.ndarray:
    """How far each partial ``(frames, partials)`` stands over the line between those on both sides of it, in dB."""
    over, count = np.full(octave.shape, np.nan), octave.shape[1]
    ratio = np.log2(np.arange(1, count + 1))
    for j in range(1, count - 1):
        below = np.flatnonzero((ratio < ratio[j] - _APART) & (ratio > ratio[j] - _REACH))
        above = np.flatnonzero((ratio > ratio[j] + _APART) & (ratio < ratio[j] + _REACH))
        below = below if len(below) else np.array([j - 1])
        above = above if len(above) else np.array([j + 1])
        left, right = _middle(level[:, below]), _middle(level[:, above])
        x0, x1 = _mean(octave[:, below]), _mean(octave[:, above])
        over[:, j] = level[:, j] - left - (right - left) * (octave[:, j] - x0) / (x1 - x0)
    return over


def _mean(values: np.ndarray) -> np.ndarray:
    """The mean of what is a number in each row, NaN where the pitch is too high for any of these partials."""
    there = ~np.isnan(values)
    count = np.count_nonzero(there, axis=1)
    return np.where(count, np.where(there, values, 0.0).sum(axis=1) / np.maximum(count, 1), np.nan)


def _middle(values: np.ndarray) -> np.ndarray:
    """The median of what is a number in each row, NaN where nothing is; as np.nanmedian, many times as fast."""
    ordered, count = np.sort(values, axis=1), np.count_nonzero(~np.isnan(values), axis=1)  # NaN comes last
    rows = np.arange(len(values))
    return (ordered[rows, np.maximum(count - 1, 0) // 2] + ordered[rows, np.minimum(count // 2, count - 1)]) / 2


def profile(measured: Partials, quantiles: tuple[float, ...], fewest_notes: int = _FEWEST_NOTES) -> np.ndarray:
    """Quantiles of how far partials stand out.

    Parameters
    ----------
    measured : partials.
    quantiles : from 0 to 1.
    fewest_notes : different notes without which nothing is said.

    Returns
    -------
    ``(quantiles, cells)``, dB; NaN where there are too few partials or notes.
    """
    cells = len(grid())
    out = np.full((len(quantiles), cells), np.nan)
    order = np.argsort(measured.cell)
    cell, over, f0 = measured.cell[order], measured.over[order], measured.f0[order]
    edges = np.searchsorted(cell, np.arange(cells) - NEAR_CELLS), np.searchsorted(cell, np.arange(cells) + NEAR_CELLS)
    for i, (a, b) in enumerate(zip(*edges, strict=True)):
        notes = len(np.unique(np.round(12 * np.log2(f0[a:b])))) if b > a else 0
        weight = 1 - np.abs(cell[a:b] - i) / NEAR_CELLS
        if weight.sum() < _FEWEST or notes < fewest_notes:
            continue
        rank = np.argsort(over[a:b])
        share = np.cumsum(weight[rank])
        out[:, i] = over[a:b][rank][np.minimum(b - a - 1, np.searchsorted(share, np.array(quantiles) * share[-1]))]
    return out


def noise_floor(samples: np.ndarray, rate: int, survey: Survey) -> np.ndarray | None:
    """The spectrum of the noise floor.

    Parameters
    ----------
    samples : ``(n,)``.
    rate : Hz.
    survey : what is measured of the take.

    Returns
    -------
    ``(cells,)``, dB; None where the pauses are digital silence or too few.
    """
    if survey.floor_dbfs < _SILENT_DBFS:
        return None
    size = fft.next_fast_len(round(_STILL_S * rate), real=True)
    chosen = _inside(survey, STILL, _STILL_MARGIN_S, size // 4 / rate, len(samples) / rate)
    if len(chosen) < _FEWEST_STILL:
        return None
    return on_grid(np.median(powers(samples, chosen * (size // 4), size), axis=0), rate / size)


def consonants(samples: np.ndarray, rate: int, survey: Survey) -> np.ndarray | None:
    """The usual spectrum of unvoiced sounds, which tells less than the noise floor, since a throat shapes some of them.

    Parameters
    ----------
    samples : ``(n,)``.
    rate : Hz.
    survey : what is measured of the take.

    Returns
    -------
    ``(cells,)``, dB; None where there are too few.
    """
    size = fft.next_fast_len(round(_SIZE_S * rate), real=True)
    chosen = _inside(survey, UNVOICED, _CONSONANT_MARGIN_S, size // 8 / rate, len(samples) / rate)
    if len(chosen) < _FEWEST_STILL:
        return None
    power = powers(samples, chosen * (size // 8), size)
    levels = on_grid(power, rate / size)
    return np.median(levels - np.median(levels, axis=1, keepdims=True), axis=0)


def _inside(survey: Survey, state: int, margin_s: float, hop_s: float, duration: float) -> np.ndarray:
    """The numbers of the frames, every ``hop_s`` s, around which there is nothing but a state; evenly chosen ones."""
    such = np.concatenate([[0], np.cumsum(survey.state == state)])
    margin = round(margin_s / survey.hop_s)
    frame = np.round(np.arange(int(duration / hop_s)) * hop_s / survey.hop_s).astype(int)
    first, last = np.clip(frame - margin, 0, len(such) - 1), np.clip(frame + margin, 0, len(such) - 1)
    chosen = np.flatnonzero((such[last] - such[first] == last - first) & (last > first))
    return chosen[:: max(1, -(-len(chosen) // _MOST_FRAMES))]


def rings(measured: Partials, witness: np.ndarray | None, firm: bool = True) -> list[tuple[Bell, float]]:
    """The bands that are always there, each with its confidence, the most outstanding first.

    Parameters
    ----------
    measured : partials.
    witness : ``(cells,)``, dB: the spectrum of what is no voice; None for none.
    firm : whether that is the noise floor.
    """
    often, usually = profile(measured, (_OFTEN, _USUALLY))
    found: list[tuple[Bell, float]] = []
    hz, rest = grid(), None if witness is None else witness.copy()
    least_often, least_db = (_LEAST_OFTEN_DB, _LEAST_STILL_DB) if firm else (_WEAK_OFTEN_DB, _WEAK_DB)
    for i in _peaks(np.nan_to_num(often, nan=-99.0), least_often)[:_MOST_LOOKED_AT]:
        known = float(np.nanmax(usually[max(0, i - 2) : i + 3]))
        bell = fitted(rest, hz[i]) if rest is not None and _bump(rest, i) >= _LEAST_BUMP_DB else None
        if rest is not None and bell is not None and bell.gain_db >= least_db and known >= _LEAST_USUALLY_DB:
            bell = bell if firm else Bell(bell.freq_hz, bell.q, round(min(bell.gain_db, known), 1))
            found.append((bell, round(min(_SURE_MOST, _SURE_FROM + _SURE_A_DB * bell.gain_db), 2) if firm else _UNSURE))
            rest -= 10 * np.log10(power_response(bell, hz))
        elif often[i] >= _ALONE_OFTEN_DB and not (firm and rest is not None):
            found.append((Bell(float(hz[i]), _ALONE_Q, round(float(min(_ALONE_MOST_DB, often[i])), 1)), _UNSURE))
        if len(found) == _MOST_BANDS:
            break
    sure = [one for one in found if one[1] > _UNSURE]
    unsure = [one for one in found if one[1] <= _UNSURE][:_MOST_UNSURE]
    return sorted(sure + unsure, key=lambda one: -one[0].gain_db)


def _bump(levels: np.ndarray, i: int) -> float:
    """How far levels in dB rise around a cell over those a third of an octave away."""
    near, far = _BUMP_CELLS
    sides = levels[max(0, i - far) : max(1, i - near + 1)], levels[i + near : i + far + 1]
    base = [np.median(side) for side in sides if len(side)]
    return float(levels[max(0, i - 2) : i + 3].max() - np.mean(base))


def _peaks(values: np.ndarray, least: float) -> list[int]:
    """The places of the peaks, the highest first."""
    places = [i for i in range(1, len(values) - 1)
              if values[i] >= least and values[i - 1] <= values[i] > values[i + 1]]  # fmt: skip
    return sorted(places, key=lambda i: -values[i])
