"""Bands by level: a bell that cuts only while its band stands over what is usual of it.

How far the band stands out is measured against the bands beside it at every moment, so that neither a louder word nor
the tilt of loud singing counts. The gain follows the static curve and the smoothing of Giannoulis, Massberg & Reiss
2012 (:mod:`isophon.core.audio.dynamics`). The bell is that of Regalia & Mitra 1987: the sound and as much of one fixed
band-pass as the gain says, minimum phase at every gain, and at the deepest cut the bell of the cookbook.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import fft, signal

from isophon.core.audio.dynamics import NOTHING_DB, smoothed, static_db
from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.band.settings import centre_of
from isophon.core.passes.stage import At, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part

EDGE_S = 0.03  # s: how long a cut takes to come and go at the ends of a word
_TICK_S = 0.001  # of the gain
_POLES = 4  # of the gammatone filter (4 in the paper)
_POLES_WIDTH = math.sqrt(2 ** (1 / _POLES) - 1)  # of all of them together, of that of one
_BESIDE = 1 / 3  # octaves: where the bands beside it lie; further where it is wider
_SETTLED = 8.0  # times after which nothing is left of a gain or of a filter's ringing
LONGEST_RELEASE_S = 1.0  # s: the longest release that the settings allow
_RINGING_S = 0.1  # s that the filters ring before they are even
_AROUND, _LEAST_AROUND_HZ = 4.0, 600.0  # of its width, and Hz: what of the spectrum around a band counts


class LevelCut(msgspec.Struct, frozen=True):
    """A band by level over the frames from ``first`` to ``last``, faded over ``edge`` frames.

    ``over_db``: how far it stands over those beside it where the cut begins; ``depth_db``: the most that is taken off.
    """

    first: int
    last: int
    edge: int
    freq_hz: float
    q: float
    over_db: float
    depth_db: float
    ratio: float
    attack_s: float
    release_s: float


def treatments(part: Part) -> Iterator[LevelCut]:
    """What is done to a part."""
    rate, frames, how = part.source.sample_rate, part.source.frames, part.band
    for mark, change in part.changes_of(BandMark):
        freq_hz, q = centre_of(mark)
        if change >= 0 or not mark.is_by_level or freq_hz * 2 ** beside(q) >= 0.49 * rate:
            continue
        start, end = mark.span
        edge = round(EDGE_S * rate)
        first, last = max(0, round(start * rate) - edge), min(frames, round(end * rate) + edge)
        yield LevelCut(first, last, edge, round(freq_hz, 2), round(q, 3), round(mark.usual_db, 2),
                       round(-change, 2), how.ratio, how.attack_ms / 1000, how.release_ms / 1000)  # fmt: skip


def beside(q: float) -> float:
    """How far away the bands lie that a band is measured against, octaves."""
    return max(_BESIDE, 1.2 / q)


def excess_db(samples: np.ndarray, rate: int, freq_hz: float, q: float) -> np.ndarray:
    """How far a band stands over the mean of those beside it.

    Parameters
    ----------
    samples : ``(channels, n)``.
    rate : Hz.
    freq_hz, q : the band.

    Returns
    -------
    ``(ticks,)``, dB.
    """
    return _BandLevels(samples, rate).excess_db(freq_hz, q)


class _BandLevels:
    """Levels of bands of a stretch of sound ``(channels, n)``, all from one transform of it."""

    def __init__(self, samples: np.ndarray, rate: int) -> None:
        self._rate, self._frames = rate, samples.shape[1]
        self._size = fft.next_fast_len(self._frames + round(_RINGING_S * rate), real=True)
        self._spectrum = fft.rfft(samples, self._size, axis=1)

    def excess_db(self, freq_hz: float, q: float) -> np.ndarray:
        """How far a band stands over the mean of those beside it at each tick, dB."""
        off = 2 ** beside(q)
        own, below, above = (self._level_db(hz, q) for hz in (freq_hz, freq_hz / off, freq_hz * off))
        return own - (below + above) / 2

    def _level_db(self, freq_hz: float, q: float) -> np.ndarray:
        """The level of a band at each tick, dB: the envelope of a complex gammatone filter (Patterson et al. 1992).

        Of the spectrum only what lies around the band is turned back, so that its envelope comes at a low rate.
        """
        width = self._rate / self._size
        pole_hz = freq_hz / q / _POLES_WIDTH / 2
        around = round(max(_AROUND * freq_hz / q, _LEAST_AROUND_HZ) / width)
        first = max(0, round(freq_hz / width) - around)
        last = min(self._spectrum.shape[1], round(freq_hz / width) + around)
        hz = np.arange(first, last) * width
        passed = self._spectrum[:, first:last] * (1 + 1j * (hz - freq_hz) / pole_hz) ** -_POLES
        envelope = fft.ifft(passed, axis=1) * ((last - first) / self._size)
        power = (np.square(envelope.real) + np.square(envelope.imag)).sum(axis=0)
        tick = tick_of(self._rate)
        ticks = (np.arange(self._frames // tick) + 0.5) * tick
        places = np.arange(len(power)) * self._size / len(power)
        return 10 * np.log10(np.interp(ticks, places, power) + 1e-14)


def tick_of(rate: int) -> int:
    """How many frames a tick of the gain has."""
    return max(1, round(_TICK_S * rate))


def taken_off(over: np.ndarray, rate: int, cut: LevelCut) -> np.ndarray:
    """What is taken off where a band stands out.

    Parameters
    ----------
    over : ``(ticks,)``, how far it stands over those beside it, dB.
    rate : Hz.
    cut : threshold, ratio, depth and times.

    Returns
    -------
    ``(ticks,)``, dB, at least 0.
    """
    over = over - cut.over_db
    wanted = np.minimum(cut.depth_db, static_db(over, cut.ratio, 0.0))
    wanted[wanted < NOTHING_DB] = 0.0
    return smoothed(wanted, tick_of(rate) / rate, cut.attack_s, cut.release_s, 0.0)


def _apply(at: At, mine: Sequence[LevelCut]) -> np.ndarray:
    rate, tick = at.sample_rate, tick_of(at.sample_rate)
    before = -(-round((_SETTLED * max(cut.release_s for cut in mine) + _RINGING_S) * rate) // tick) * tick
    samples = at.read(at.start - before, before + at.frames + tick).astype(np.float64)
    out = samples[:, before : before + at.frames].copy()
    levels, ringing = _BandLevels(samples, rate), before - round(_RINGING_S * rate)
    for cut in mine:
        taken = taken_off(levels.excess_db(cut.freq_hz, cut.q), rate, cut)
        places = (np.arange(len(taken)) + 0.5) * tick - before
        less = np.power(10, -taken / 20) - 1
        if less[-(at.frames // tick) - 3 :].any():
            band = signal.lfilter(*_band_pass(cut, rate), samples[:, ringing : before + at.frames], axis=1)
            out += _inside(cut, at) * np.interp(np.arange(at.frames), places, less) * band[:, before - ringing :]
    return out.astype(np.float32)


@lru_cache(maxsize=64)
def _band_pass(cut: LevelCut, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """The band-pass whose difference makes the bell; its width is that of the cookbook's at the deepest cut."""
    numerator, denominator = signal.iirpeak(cut.freq_hz, cut.q * 10 ** (-cut.depth_db / 40), rate)
    return numerator, denominator


def _inside(cut: LevelCut, at: At) -> np.ndarray:
    """How much of a cut is there, 0 to 1, along a raised cosine at both ends, ``(frames,)``."""
    if cut.first + cut.edge <= at.start and at.stop <= cut.last - cut.edge:
        return np.ones(1)
    place = np.arange(at.start, at.stop)
    return raised_cosine(np.clip(np.minimum(place - cut.first, cut.last - place) / cut.edge, 0, 1))


def _reach(rate: int) -> int:
    return round((_SETTLED * LONGEST_RELEASE_S + _RINGING_S + 2 * _TICK_S) * rate) + 2


STAGE = Stage("bands by level", (LevelCut,), _apply, ("filters",), reach=_reach, fixed_blocks=True)
