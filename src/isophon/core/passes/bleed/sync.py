"""Where a cue lies against a take: its delay, and how its clock drifts.

Generalized cross-correlation (Knapp & Carter 1976) with the phase transform on
both sides. The leak is far under the voice, so the take is first brought to one
level from moment to moment: then the pauses, where the leak is heard, count
as much as the singing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy import fft, ndimage

from isophon.core import memory
from isophon.core.audio.threads import at_once, cores

_REACH_S = 2.0  # s to either side of where a cue is expected that are looked through
_EXPECTED_S = 0.08  # s: so near it is where it is expected
_NEARLY = 0.95  # of the highest peak, that one there must have to be taken instead
_ENVELOPE_S = 0.04  # s over which the level is averaged that is made even
_CLEAR = 9.0  # times the spread of the correlation elsewhere
_PIECE_S = 5.0  # s: length of the pieces in which a drift is followed
_NEAR_S = 0.02  # s that a drift may move the delay
_PIECE = 1 << 17  # frames
_SHORT_PIECE_S = 7.0  # s: length of the pieces in which a cue is looked for that drifts
_BLUR_S = 0.002  # s over which their correlations are averaged
_MOST_PIECE = 30.0  # times the spread: no piece counts for more
_FEWEST_PIECES = 3  # of which a drift is estimated
_MOST_PPM = 150.0  # ppm: no two clocks are taken to differ by more
_PPM_STEP = 0.5  # ppm between the drifts that are tried
_PPM_NEAR = 8.0  # ppm around the best that are tried once more, in half the step
_PPM_PAYS = 1.05  # times the energy that a drift must explain over none
_LOWEST_HZ = 150.0  # Hz under which headphones leak nothing
_TOP_SHARE = 0.85  # of the band over which nothing is compared


@dataclass(frozen=True, eq=False)
class Sync:
    """``delay_s``: how much later the cue sounds in the take than in its file, at the take's begin; ``ppm``: how much
    slower the cue's clock runs in it; ``clear``: the peak's height over the spread of the rest. ``lags`` (s) and
    ``heights`` picture the correlation.
    """

    delay_s: float
    ppm: float
    clear: float
    lags: np.ndarray
    heights: np.ndarray

    @property
    def found(self) -> bool:
        """Whether the cue sounds in the take."""
        return self.clear >= _CLEAR


def synchronize(take: np.ndarray, cues: np.ndarray, rate: int, expected_s: float = 0.0) -> Sync:
    """Finds cues in a take at the same rate.

    Parameters
    ----------
    take : ``(n,)``.
    cues : ``(cues, n)``.
    rate : Hz.
    expected_s : the delay that is expected, s; ±2 s around it are looked through.
    """
    flat_take, *flat_cues = at_once(lambda x: _flat(x, rate), [take, *cues])
    memory.trim()
    correlation = sum(_correlation(flat_take, cue, rate, expected_s, _REACH_S) for cue in flat_cues)
    height = np.abs(correlation)
    spread = float(np.median(height)) / 0.6745 + 1e-12
    best = _best(height, rate, spread)
    lags = expected_s + (np.arange(len(height)) - len(height) // 2) / rate
    delay, ppm = float(lags[best]), 0.0
    clear = float(height[best]) / spread
    if clear < _CLEAR:
        drifting, clear_pieces = _in_pieces(flat_take, flat_cues, rate, expected_s)
        if clear_pieces >= _CLEAR:
            delay, clear = drifting, clear_pieces
    if clear >= _CLEAR:
        delay, ppm = _drift(flat_take, flat_cues, rate, delay)
    thin = max(1, len(height) // 1_000)
    picture = height[: len(height) // thin * thin].reshape(-1, thin).max(axis=1)
    return Sync(delay, ppm, round(clear, 1), lags[::thin][: len(picture)], picture / (height[best] + 1e-12))


def _flat(samples: np.ndarray, rate: int) -> np.ndarray:
    """A signal of one level in time and of one level over frequency."""
    level = ndimage.uniform_filter1d(np.square(samples), max(3, round(_ENVELOPE_S * rate)))
    level = np.sqrt(np.maximum(level, 0, out=level), out=level)  # in place: each is as long as the take
    level += 1e-3 * level.max() * 0.01 + 1e-9
    even = np.divide(samples, level, out=level)
    size = fft.next_fast_len(len(even), real=True)
    spectrum = fft.rfft(even, size)
    magnitude = ndimage.uniform_filter1d(np.abs(spectrum), max(3, round(20 * size / rate)))
    magnitude += 0.05 * magnitude.mean() + 1e-9
    spectrum /= magnitude
    spectrum[: math.ceil(_LOWEST_HZ * size / rate)] = 0
    spectrum[math.floor(_TOP_SHARE * size / 2) + 1 :] = 0
    return fft.irfft(spectrum, size)[: len(samples)]


def _correlation(take: np.ndarray, cue: np.ndarray, rate: int, centre_s: float, reach_s: float) -> np.ndarray:
    """The correlation at lags around ``centre_s``; a positive lag: the cue sounds later in the take.

    The take is dealt with in pieces that the caches hold, on all cores.
    """
    reach, centre = round(reach_s * rate), round(centre_s * rate)
    piece = max(_PIECE, 4 * reach)
    size = fft.next_fast_len(piece + 2 * reach, real=True)

    def piecewise(first: int) -> np.ndarray:
        mine = fft.rfft(take[first : first + piece], size).conj()
        around = fft.rfft(_span(cue, first - centre - reach, piece + 2 * reach), size)
        return fft.irfft(mine * around, size)[: 2 * reach + 1][::-1]

    return sum(at_once(piecewise, range(0, len(take), piece)))


def _best(height: np.ndarray, rate: int, spread: float) -> int:
    """The tallest peak; of music that repeats, the one where the cue is expected, if it stands there at all."""
    best, middle, near = int(np.argmax(height)), len(height) // 2, round(_EXPECTED_S * rate)
    here = middle - near + int(np.argmax(height[middle - near : middle + near]))
    return here if height[here] > max(_CLEAR * spread, _NEARLY * height[best]) else best


def _in_pieces(take: np.ndarray, cues: list[np.ndarray], rate: int, expected_s: float) -> tuple[float, float]:
    """Delay and clearness where the clocks drift apart so far that no one delay fits the whole take."""
    size, reach, blur = round(_SHORT_PIECE_S * rate), round(_REACH_S * rate), round(_BLUR_S * rate)
    heights = []
    for first in range(0, len(take) - size // 2, size):
        piece = take[first : first + size]
        begin = first - round(expected_s * rate) - reach
        parts = (_span(cue, begin, len(piece) + 2 * reach) for cue in cues)
        height = np.abs(sum(_correlation(piece, part, rate, -reach / rate, _REACH_S) for part in parts))
        height /= np.median(height) + 1e-12
        heights.append(ndimage.maximum_filter1d(height, 2 * blur + 1)[::blur])
    if len(heights) < _FEWEST_PIECES:
        return expected_s, 0.0
    mean = np.mean(np.minimum(heights, _MOST_PIECE), axis=0)
    best = int(np.argmax(mean))
    spread = 1.4826 * float(np.median(np.abs(mean - np.median(mean)))) + 1e-12
    return expected_s + (best * blur - reach) / rate, float((mean[best] - np.median(mean)) / spread)


def _drift(take: np.ndarray, cues: list[np.ndarray], rate: int, delay: float) -> tuple[float, float]:
    """Delay at the take's begin and drift in ppm: the drift at which the pieces' correlations add up to most.

    Their whole shapes are added, reflections and all, since the peak of one piece alone
    jumps between neighbours that are nearly as tall.
    """
    size, margin = round(_PIECE_S * rate), round((_NEAR_S + 0.02) * rate)
    firsts = range(0, max(1, len(take) - size // 2), size)

    def shape(first: int) -> np.ndarray:
        piece = take[first : first + size]
        begin = first - round(delay * rate) - margin
        parts = (_span(cue, begin, len(piece) + 2 * margin) for cue in cues)
        return np.sum([_correlation(piece, part, rate, -margin / rate, _NEAR_S) for part in parts], axis=0)

    stack = np.array(at_once(shape, firsts))
    times = np.array([(first + min(size, len(take) - first) / 2) / rate for first in firsts])
    ppms = np.arange(-_MOST_PPM, _MOST_PPM + 0.1, _PPM_STEP) if len(stack) >= _FEWEST_PIECES else np.zeros(1)
    spectra = fft.rfft(stack, axis=1)
    turn = 2j * np.pi * rate / stack.shape[1] * np.arange(spectra.shape[1])

    def turned(ppm: float) -> np.ndarray:
        return np.exp(turn * (1e-6 * ppm * times)[:, None])

    def added(ppm: float) -> np.ndarray:
        return fft.irfft((spectra * turned(ppm)).sum(axis=0), stack.shape[1])

    step = turned(_PPM_STEP)

    def energies(some: np.ndarray) -> np.ndarray:
        """Of drifts that follow each other by one step."""
        now, out = spectra * turned(some[0]), np.empty(len(some))
        for i in range(len(some)):
            out[i] = np.square(np.abs(now.sum(axis=0))).sum()
            now *= step
        return out

    energy = np.concatenate(at_once(energies, np.array_split(ppms, min(len(ppms), cores()))))
    best, still = int(np.argmax(energy)), int(np.argmin(np.abs(ppms)))
    ppm = float(ppms[best]) if energy[best] > _PPM_PAYS * energy[still] else 0.0
    if ppm:  # the highest peak tells more exactly
        near = ppm + np.arange(-_PPM_NEAR, _PPM_NEAR + 0.01, _PPM_STEP / 2)
        heights = np.array([np.abs(added(one)).max() for one in near])
        ppm = float(near[0] + _PPM_STEP / 2 * _peak(heights))
    height = np.abs(added(ppm))
    return delay + int(np.argmax(height)) / rate - _NEAR_S, round(ppm, 2)


def _span(samples: np.ndarray, start: int, count: int) -> np.ndarray:
    out = np.zeros(count, samples.dtype)
    first, last = max(0, start), min(len(samples), start + count)
    if last > first:
        out[first - start : last - start] = samples[first:last]
    return out


def _peak(height: np.ndarray) -> float:
    """The place of the highest value, between samples by a parabola."""
    i = int(np.argmax(height))
    if not 0 < i < len(height) - 1:
        return float(i)
    a, b, c = height[i - 1 : i + 2]
    return i + 0.5 * float((a - c) / (a - 2 * b + c - 1e-20))
