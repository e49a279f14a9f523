"""Moments of a take that stand up as beats do, and after which times they come again."""

from __future__ import annotations

import numpy as np
from scipy import fft, ndimage, signal

from isophon.core.passes.bleed.feeds import whitener

# Limits of ours.
BEATS_S = (0.2, 2.1)  # the shortest and the longest beat, s: 300 to 29 a minute
BIN_S = 0.001  # the step in which hits are looked for, s
LEFT_MS = (-30, -4)  # what lies before a hit, ms
STEP_S = 2e-5  # in which beats are tried, s
_LOWEST_HZ = 350.0  # under it the voice is louder than a leaked click
_RIGHT_MS = (12, 45)  # what follows a hit, ms
_SIDE_PERCENTILE = 85  # of the levels beside a hit: single pulses of the voice do not count
_OVER_DB, _MOST_DB = 3.0, 15.0  # so much a hit stands up at least; more counts no more
_TEETH = 24  # beats that the comb has
_SAME_S = 0.003  # beats nearer than that are the same, s
_CANDIDATES = 8  # beats that are looked into
_DIVISORS = (1, 2, 3, 4, 5, 6, 8)  # a bar may score higher than its beats


def bright_part(take: np.ndarray, rate: int) -> np.ndarray:
    """The take with its noise flattened and its lows gone, where no click can be separated from the voice.

    Parameters
    ----------
    take : ``(n,)``.
    rate : Hz.

    Returns
    -------
    float32 ``(n,)``.
    """
    white = signal.oaconvolve(take, whitener(take, rate), "same")
    return signal.sosfiltfilt(signal.butter(2, _LOWEST_HZ, "high", fs=rate, output="sos"), white).astype(np.float32)


def levels_of(bright: np.ndarray, rate: int) -> np.ndarray:
    """The level of each bin of ``BIN_S``.

    Parameters
    ----------
    bright : ``(n,)``.
    rate : Hz.

    Returns
    -------
    ``(bins,)``, dB.
    """
    size = round(BIN_S * rate)
    at = (np.arange(round(len(bright) / rate / BIN_S)) * BIN_S * rate).astype(int)
    power = ndimage.uniform_filter1d(np.square(bright, dtype=np.float64), size, origin=-(size // 2))[at]
    return 10 * np.log10(np.maximum(power, 0) + 1e-6 * np.median(power) + 1e-20)


def levels_beside(level: np.ndarray, span: tuple[int, int]) -> np.ndarray:
    """The level beside each bin.

    Parameters
    ----------
    level : ``(bins,)``, dB.
    span : the first and the last bin, counted from each.

    Returns
    -------
    ``(bins,)``, dB.
    """
    size, middle = span[1] - span[0] + 1, (span[0] + span[1]) // 2
    return np.roll(ndimage.percentile_filter(level, _SIDE_PERCENTILE, size=size), -middle)


def hits_of(level: np.ndarray, rings_db: float) -> np.ndarray:
    """By how much each bin stands over what is beside it.

    Parameters
    ----------
    level : ``(bins,)``, dB.
    rings_db : how much louder what follows may be than what was before, dB.

    Returns
    -------
    ``(bins,)``, dB, 0 where it does not.
    """
    around = np.maximum(levels_beside(level, LEFT_MS), levels_beside(level, _RIGHT_MS) - rings_db)
    over = np.clip(level - around - _OVER_DB, 0, _MOST_DB)
    over[level < ndimage.maximum_filter1d(level, 3)] = 0
    return over


def likely_beats(hits: np.ndarray) -> tuple[list[float], np.ndarray]:
    """The likely times in s after which hits come again, with their divisions, and the score of all that were tried.

    Parameters
    ----------
    hits : ``(bins,)``, dB.
    """
    count = len(hits)
    smooth = ndimage.gaussian_filter1d(hits, 1.0)
    size = fft.next_fast_len(2 * count, real=True)
    spectrum = fft.rfft(smooth - smooth.mean(), size)
    again = fft.irfft(np.square(np.abs(spectrum)), size)[:count] / np.arange(count, 0, -1)
    beats = np.arange(*BEATS_S, STEP_S)
    score, teeth = np.zeros(len(beats)), np.zeros(len(beats))
    for k in range(1, _TEETH + 1):
        at = beats * k / BIN_S
        there = at < 0.8 * count
        score[there] += np.interp(at[there], np.arange(count), again)
        teeth += there
    score /= np.sqrt(np.maximum(teeth, 1))
    found, left = set(), score.copy()
    for _ in range(_CANDIDATES):
        beat = beats[int(np.argmax(left))]
        found |= {round(float(beat / d), 4) for d in _DIVISORS if beat / d >= BEATS_S[0]}
        left[np.abs(beats - beat) < _SAME_S] = -np.inf
    return sorted(found), score


def first_beat(hits: np.ndarray, beat: float) -> tuple[float, float, float]:
    """How clearly hits gather at one place of a beat, that place in s, and the beat.

    Parameters
    ----------
    hits : ``(bins,)``, dB.
    beat : s.
    """
    phase = np.round(np.arange(len(hits)) * BIN_S % beat / BIN_S).astype(int)
    folded = ndimage.uniform_filter1d(np.bincount(phase, hits, minlength=int(beat / BIN_S) + 2), 5, mode="wrap")
    place = int(np.argmax(folded))
    return float((folded[place] - folded.mean()) / (folded.std() + 1e-12)), place * BIN_S, beat
