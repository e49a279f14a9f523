"""Finding bands that speak only when the voice is loud: a narrow excess of the loud words that the others have not.

Of each word the spectrum is compared with itself a third of an octave away on both sides, so that neither its loudness
nor the tilt of loud singing counts. A formant moves with the vowel and a note with the melody: what stands at one
frequency in nearly all loud words, and in few others, is neither. Three looks at the same words must agree: the mean
power of a word, the mean of its levels (which soft sounds count in as well), and the partials of its notes. The figures
were fitted to words of twelve speakers, with and without a ring in the loudest third of them; see docs/method.md.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy import fft, ndimage

from isophon.core.audio.bell import Bell, response_db
from isophon.core.audio.loudness import lufs
from isophon.core.passes.band.grid import NEAR_CELLS, PER_OCTAVE, Partials, fitted, grid, on_grid, powers
from isophon.core.survey import VOICED, Survey

_SIZE_S = 0.04  # s: length of a spectrum
_HOP_S = 0.02  # s between spectra
_JOIN_S, _LEAST_S, _LEAST_VOICED = 0.04, 0.08, 0.2  # a word's inner silence, its length, how much of it is voice
_LONGEST_S, _PIECE_S, _SMOOTH_S = 1.2, 0.25, 0.05  # what is sung in one breath is cut into pieces
_UNDER_VOICE_DB = 35.0  # dB under the voice level that a word may lie
_OVER_FLOOR_DB = 8.0  # dB over the noise floor that it must lie
_IN_WORD_DB = 25.0  # dB under its loudest frame that the frames of a word may lie
_LOUD, _QUIET = 2 / 3, 0.6  # quantiles of the words' levels
_LOUDER_DB, _SOFTEST_DB = 6.0, 20.0  # how far these groups are apart, and how far under the loudest a word may lie
_FEWEST_WORDS = 4  # loud, and as many others
_FEWEST_PARTIALS = 3  # near a cell in a word, of which a mean is taken
_FEWEST_NOTES = 3  # different notes at a cell
_CLOSE_PARTIALS = 0.2  # of a frequency: partials further apart leave gaps in the spectrum there
_FROM_HZ, _TO_HZ = 1_400.0, 4_000.0  # under it the formants of vowels grow with loudness as a ring does
_FAR, _CLOSE = PER_OCTAVE // 3, PER_OCTAVE // 6  # cells: a third and a sixth of an octave
_SCORE = 2.4  # standard errors (see _apart) over which a band is there
_PARTIALS_COUNT = 0.7  # how much partials count beside spectra
_PARTIALS_AGREE = 0.9  # standard errors that the partials must show at least
_SPREAD = 0.25  # dB² added to the variance of a mean: no mean of a few words is surer
_STANDS_DB = 3.3  # dB that a band stands out by in loud words
_GROWS_DB = 3.5  # dB more than in the others
_NARROW_DB = 3.2  # the same against what lies closely beside it
_OFTEN = 0.6  # share of the loud words in which it stands out
_OFTEN_DB = 3.0  # dB by which it stands out in these
_APART = PER_OCTAVE // 3  # cells: bands are not closer, a third of an octave
STAYS_OCTAVES = 0.09  # octaves: what moves more from word to word is a formant
_USUAL_DB = 9.0  # dB: the gain at which a bell is compared with what is seen of it
_MOST_SEEN_LESS = 1.6  # times: no gain is corrected by more
_MOST = 2  # bands in a take
_USUAL_Q = 8.0  # of a band whose width nothing tells
_WIDEST = 5.0  # Q that is believed
_NARROWEST = 14.0  # Q that is believed
_CLEAR = (2.4, 3.0), (0.4, 1.0)  # scores, and how much of what was measured they let stand
_NEARLY_LOUD_DB = 1.5  # dB under the softest loud word, at which a word is still treated
_NEARLY_AS_MUCH = 0.6  # of the usual stand-out that it must have
_SURE = 0.7  # confidence of a word that is loud, and stands out
_UNSURE = 0.3  # of another


class Word(NamedTuple):
    """A word from ``start`` to ``end`` s, its level in LUFS, how far the band stands out in it, dB, and how sure."""

    start: float
    end: float
    level_lufs: float
    standout_db: float
    sure: float


class LoudBand(NamedTuple):
    """A band that speaks when the voice is loud; ``usual_db``: how far it stands over its neighbours otherwise."""

    freq_hz: float
    q: float
    usual_db: float
    words: tuple[Word, ...]


class _Words(NamedTuple):
    """Of each word ``(words,)`` its level in dB; of each and each cell what stands over what lies beside it, dB."""

    level: np.ndarray
    by_power: np.ndarray
    by_level: np.ndarray
    closely: np.ndarray
    by_partials: np.ndarray
    spectra: np.ndarray


def find(samples: np.ndarray, rate: int, survey: Survey, measured: Partials, known: list[float]) -> list[LoudBand]:
    """The bands that stand out only in loud words, the clearest first.

    Parameters
    ----------
    samples : ``(n,)``.
    rate : Hz.
    survey : what is measured of the take.
    measured : its partials.
    known : Hz: bands that are always there.
    """
    spans = _not_far_under(survey, sounding(survey))
    if len(spans) < 2 * _FEWEST_WORDS:
        return []
    words = _measured(samples, rate, survey, spans, measured)
    loud, quiet = words.level >= np.quantile(words.level, _LOUD), words.level < np.quantile(words.level, _QUIET)
    if min(loud.sum(), quiet.sum()) < _FEWEST_WORDS:
        return []
    if words.level[loud].mean() - words.level[quiet].mean() < _LOUDER_DB:
        return []
    notes = _notes_near(measured, [span for span, is_loud in zip(spans, loud, strict=True) if is_loud])
    score = np.where(notes >= _FEWEST_NOTES, _score(words, loud, quiet), -np.inf)
    hz = grid()
    found: list[LoudBand] = []
    for other in known:
        score[np.abs(np.log2(hz / other)) < _APART / PER_OCTAVE] = -np.inf
    while len(found) < _MOST and (at := int(np.argmax(score))) and score[at] >= _SCORE:
        band = _band(words, loud, quiet, at, float(score[at]), spans)
        if _FROM_HZ <= band.freq_hz <= _TO_HZ and wanders(words.closely[loud], at) <= STAYS_OCTAVES:
            found.append(band)
        score[max(0, at - _APART) : at + _APART + 1] = -np.inf
    return found


def sounding(survey: Survey) -> list[tuple[float, float]]:
    """The words with their consonants, (start, end) in s."""
    if survey.voice_lufs is None:
        return []
    level = 10 * np.log10(survey.k_power + 1e-14)
    on = level > max(survey.floor_dbfs + _OVER_FLOOR_DB, survey.voice_lufs - _UNDER_VOICE_DB)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    spans: list[list[float]] = []
    for start, end in edges.reshape(-1, 2) * survey.hop_s:
        if spans and start - spans[-1][1] < _JOIN_S:
            spans[-1][1] = end
        else:
            spans.append([start, end])
    smooth = ndimage.uniform_filter1d(level, max(1, round(_SMOOTH_S / survey.hop_s)))
    pieces = (piece for start, end in spans for piece in _cut_up(smooth, survey.hop_s, start, end))
    return [(start, end) for start, end in pieces if end - start >= _LEAST_S and _is_sung(survey, start, end)]


def _cut_up(level: np.ndarray, hop_s: float, start: float, end: float) -> list[tuple[float, float]]:
    """A stretch in pieces no longer than a long word, each cut where it is softest."""
    pieces, waiting = [], [(start, end)]
    while waiting:
        start, end = waiting.pop()
        if end - start <= _LONGEST_S:
            pieces.append((start, end))
            continue
        first, last = round((start + _PIECE_S) / hop_s), round((end - _PIECE_S) / hop_s)
        at = (first + int(np.argmin(level[first : last + 1]))) * hop_s
        waiting += [(at, end), (start, at)]
    return pieces


def _is_sung(survey: Survey, start: float, end: float) -> bool:
    """Whether there is a voice in a stretch; a breath or a knock has none."""
    inside = survey.state[survey.frame(start) : survey.frame(end) + 1]
    return bool((inside == VOICED).mean() >= _LEAST_VOICED)


def _not_far_under(survey: Survey, spans: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Without what is so much softer than the loud words that it is none."""
    levels = [lufs(float(survey.k_power[survey.frame(a) : survey.frame(b) + 1].mean())) for a, b in spans]
    least = float(np.percentile(levels, 90)) - _SOFTEST_DB if levels else 0.0
    return [span for span, level in zip(spans, levels, strict=True) if level >= least]


def _measured(samples: np.ndarray, rate: int, survey: Survey, spans: list[tuple[float, float]],
              measured: Partials) -> _Words:  # fmt: skip
    size, hop = fft.next_fast_len(round(_SIZE_S * rate), real=True), round(_HOP_S * rate)
    cells = len(grid())
    level = np.zeros(len(spans))
    spectra, mean_power, partials = np.zeros((len(spans), cells)), np.zeros((len(spans), cells)), []
    sparse = np.zeros((len(spans), cells), bool)
    for i, (start, end) in enumerate(spans):
        centres = np.arange(round(start * rate), max(round(start * rate) + 1, round(end * rate)), hop)
        loudness = survey.k_power[[min(survey.frame(c / rate), len(survey.k_power) - 1) for c in centres]]
        inside = loudness > loudness.max() * 10 ** (-_IN_WORD_DB / 10)
        levels = on_grid(powers(samples, centres[inside], size), rate / size)
        spectra[i] = levels.mean(axis=0)
        mean_power[i] = 10 * np.log10(np.power(10, levels / 10).mean(axis=0))
        level[i] = lufs(float(loudness.mean()))
        partials.append(_partials_in(measured, start, end))
        mine = measured.f0[(measured.time >= start) & (measured.time <= end)]
        sparse[i] = grid() < (np.median(mine) if len(mine) else 0.0) / _CLOSE_PARTIALS
    by_power, by_level = _excess(mean_power, _FAR), _excess(spectra, _FAR)
    by_power[sparse] = by_level[sparse] = np.nan  # it hangs on where partials happen to lie
    return _Words(level, by_power, by_level, _excess(spectra, _CLOSE),
                  np.array(partials), spectra)  # fmt: skip


def _excess(levels: np.ndarray, far: int) -> np.ndarray:
    """How far levels ``(words, cells)`` stand over the mean of those ``far`` cells away on both sides, dB."""
    own, wide = (_averaged(levels, cells) for cells in (3, 5))
    out = np.full(levels.shape, np.nan)
    out[:, far:-far] = own[:, far:-far] - (wide[:, : -2 * far] + wide[:, 2 * far :]) / 2
    return out


def _averaged(levels: np.ndarray, cells: int) -> np.ndarray:
    padded = np.pad(levels, ((0, 0), (cells // 2, cells // 2)), mode="edge")
    sums = np.cumsum(np.pad(padded, ((0, 0), (1, 0))), axis=1)
    return (sums[:, cells:] - sums[:, :-cells]) / cells


def _partials_in(measured: Partials, start: float, end: float) -> np.ndarray:
    """How far the partials near each cell stand over their envelope in a word, mean in dB; NaN for too few."""
    cells = len(grid())
    mine = (measured.time >= start) & (measured.time <= end)
    cell, over = measured.cell[mine], measured.over[mine]
    order = np.argsort(cell)
    cell, sums = cell[order], np.concatenate([[0.0], np.cumsum(over[order])])
    first = np.searchsorted(cell, np.arange(cells) - NEAR_CELLS)
    last = np.searchsorted(cell, np.arange(cells) + NEAR_CELLS, side="right")
    count = last - first
    return np.where(count >= _FEWEST_PARTIALS, (sums[last] - sums[first]) / np.maximum(count, 1), np.nan)


def _notes_near(measured: Partials, spans: list[tuple[float, float]]) -> np.ndarray:
    """At how many different notes, in semitones, a partial lies near each cell in some words, ``(cells,)``."""
    notes, note = np.unique(np.round(12 * np.log2(np.maximum(measured.f0, 1.0))), return_inverse=True)
    cell = np.clip(np.round(measured.cell).astype(int), 1, len(grid()) - 2)
    there = np.zeros((len(notes), len(grid())), bool)
    for start, end in spans:
        mine = (measured.time >= start) & (measured.time <= end)
        for beside in (-1, 0, 1):
            there[note[mine], cell[mine] + beside] = True
    return there.sum(axis=0)


def _score(words: _Words, loud: np.ndarray, quiet: np.ndarray) -> np.ndarray:
    """How clearly each cell stands out in the loud words alone; −inf where it cannot be a ring."""
    by_partials = np.nan_to_num(_apart(words.by_partials, loud, quiet))
    spectra = sum(np.nan_to_num(_apart(values, loud, quiet)) for values in (words.by_power, words.by_level))
    score = (spectra + _PARTIALS_COUNT * by_partials) / 2
    stands, closely = words.by_level, words.closely
    grows = _mean(stands[loud]) - _mean(stands[quiet])
    narrow = _mean(closely[loud]) - _mean(closely[quiet])
    may = ((_mean(stands[loud]) >= _STANDS_DB) & (grows >= _GROWS_DB) & (narrow >= _NARROW_DB)
           & (_often(stands[loud]) >= _OFTEN) & (grid() >= _FROM_HZ) & (grid() <= _TO_HZ)
           & (by_partials >= _PARTIALS_AGREE))  # fmt: skip
    return np.where(may, score, -np.inf)


def _often(values: np.ndarray) -> np.ndarray:
    """In what share of the words that tell it a cell stands out."""
    there = np.count_nonzero(~np.isnan(values), axis=0)
    return np.where(there >= _FEWEST_WORDS, (values >= _OFTEN_DB).sum(axis=0) / np.maximum(there, 1), 0.0)


def _apart(values: np.ndarray, loud: np.ndarray, quiet: np.ndarray) -> np.ndarray:
    """How far the means of two groups of words are apart, in standard errors (Welch 1947), for each cell."""
    means, errors = [], []
    for group in (loud, quiet):
        there = np.count_nonzero(~np.isnan(values[group]), axis=0)
        mean = _mean(values[group])
        spread = np.nansum(np.square(values[group] - mean), axis=0) / np.maximum(there - 1, 1)
        means.append(np.where(there >= _FEWEST_WORDS, mean, np.nan))
        errors.append(spread / np.maximum(there, 1))
    return (means[0] - means[1]) / np.sqrt(errors[0] + errors[1] + _SPREAD)


def wanders(closely: np.ndarray, at: int) -> float:
    """How far what stands out near a cell moves from word to word, as a formant does.

    Parameters
    ----------
    closely : ``(words, cells)``, dB over what lies closely beside.
    at : cell.

    Returns
    -------
    Octaves, the median deviation.
    """
    peaks = np.argmax(closely[:, at - _CLOSE : at + _CLOSE + 1], axis=1)
    return float(np.median(np.abs(peaks - np.median(peaks)))) / PER_OCTAVE


def _mean(values: np.ndarray) -> np.ndarray:
    there = np.count_nonzero(~np.isnan(values), axis=0)
    return np.where(there, np.nansum(values, axis=0) / np.maximum(there, 1), np.nan)


def _seen_less(hz: float, q: float, at: int) -> float:
    """By how much a bell's gain is more than what is seen of it at a cell, over what lies beside it."""
    levels = response_db((Bell(hz, q, _USUAL_DB),), grid())[None]
    return float(np.clip(_USUAL_DB / max(_excess(levels, _FAR)[0, at], 1.0), 1.0, _MOST_SEEN_LESS))


def _middle_hz(grows: np.ndarray, at: int) -> float:
    """The frequency in the middle of what grows around a cell, Hz."""
    cells = np.arange(max(0, at - _CLOSE), min(len(grows), at + _CLOSE + 1))
    weight = np.nan_to_num(np.maximum(grows[cells] - grows[cells].max() / 2, 0.0))
    middle = float((weight * cells).sum() / weight.sum()) if weight.any() else float(at)
    return float(np.interp(middle, np.arange(len(grows)), grid()))


def _band(words: _Words, loud: np.ndarray, quiet: np.ndarray, at: int, score: float,
          spans: list[tuple[float, float]]) -> LoudBand:  # fmt: skip
    """The band at a cell, with every word; what is not clear stands out by less."""
    hz = _middle_hz(_mean(words.closely[loud]) - _mean(words.closely[quiet]), at)
    bell = fitted(words.spectra[loud].mean(axis=0) - words.spectra[quiet].mean(axis=0), hz)
    q = _USUAL_Q if bell is None or not _WIDEST < bell.q < _NARROWEST else bell.q
    usual = float(_mean(words.by_level[quiet])[at])
    stands = np.nan_to_num(words.by_level[:, at], nan=usual)
    standout = (stands - usual) * float(np.interp(score, *_CLEAR)) * _seen_less(hz, q, at)
    least = words.level[loud].min() - _NEARLY_LOUD_DB, _NEARLY_AS_MUCH * float(np.median(standout[loud]))
    sure = np.where((words.level >= least[0]) & (standout >= least[1]), _SURE, _UNSURE)
    words_over = tuple(Word(float(start), float(end), round(float(level), 2), round(float(one), 2), float(how))
                 for (start, end), level, one, how in zip(spans, words.level, standout, sure, strict=True))  # fmt: skip
    return LoudBand(round(hz, 1), round(q, 2), round(usual, 2), words_over)
