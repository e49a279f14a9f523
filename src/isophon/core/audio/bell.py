"""Bells and shelves as analog prototypes: the W3C Audio EQ Cookbook (Bristow-Johnson), before the bilinear transform.

What is drawn and what is rendered follow these curves up to 20 kHz at any rate, without the squeeze that the
transform brings near half of it.
"""

from __future__ import annotations

from functools import lru_cache

import msgspec
import numpy as np
from scipy import fft

from isophon.core.ranges import Hertz

BELL, LOW_SHELF, HIGH_SHELF = SHAPES = ("bell", "low shelf", "high shelf")
FILTER_S = 0.3  # s: length of a filter, in which the narrowest cut has died away
_SHELF_Q = 0.7071  # of the shelves: maximally flat


class Bell(msgspec.Struct, frozen=True):
    """A boost or cut of ``gain_db`` around ``freq_hz``, ``q`` narrow; of a shelf ``q`` says nothing."""

    freq_hz: Hertz
    q: float
    gain_db: float
    shape: str = BELL


def power_response(bell: Bell, freqs: np.ndarray) -> np.ndarray:
    """The squared magnitude of a bell or shelf.

    Parameters
    ----------
    bell : a bell or shelf.
    freqs : Hz, of any shape.

    Returns
    -------
    In the shape of ``freqs``.
    """
    x = np.asarray(freqs, np.float64) / bell.freq_hz
    a = 10 ** (bell.gain_db / 40)
    flat = 1 - x * x
    if bell.shape == BELL:
        return (flat**2 + (a * x / bell.q) ** 2) / (flat**2 + (x / (a * bell.q)) ** 2)
    lift = a * x * x / _SHELF_Q**2
    if bell.shape == HIGH_SHELF:
        return a * a * ((1 - a * x * x) ** 2 + lift) / ((a - x * x) ** 2 + lift)
    return a * a * ((a - x * x) ** 2 + lift) / ((1 - a * x * x) ** 2 + lift)


def response_db(bells: tuple[Bell, ...], freqs: np.ndarray) -> np.ndarray:
    """What several do together.

    Parameters
    ----------
    bells : bells and shelves.
    freqs : ``(n,)``, Hz.

    Returns
    -------
    ``(n,)``, dB.
    """
    total = np.zeros(len(freqs))
    for bell in bells:
        total += 10 * np.log10(power_response(bell, freqs))
    return total


@lru_cache(maxsize=64)
def taps(bells: tuple[Bell, ...], sample_rate: int) -> np.ndarray:
    """The minimum-phase filter of bells, by the real cepstrum (Oppenheim & Schafer 1975).

    Minimum phase, since a ring of room or microphone is: its inverse takes the ringing in time away too, and nothing
    sounds before it is sung.

    Parameters
    ----------
    bells : bells and shelves.
    sample_rate : Hz.

    Returns
    -------
    float64 ``(n,)``, of ``FILTER_S``.
    """
    count = round(FILTER_S * sample_rate)
    size = fft.next_fast_len(8 * count, real=True)
    size += size % 2
    log = response_db(bells, fft.rfftfreq(size, 1 / sample_rate)) * (np.log(10) / 20)
    cepstrum = fft.irfft(log, size)
    fold = np.zeros(size)
    fold[0] = fold[size // 2] = 1
    fold[1 : size // 2] = 2
    response = fft.irfft(np.exp(fft.rfft(cepstrum * fold)), size)[:count]
    fade = np.ones(count)
    last = count // 8
    fade[-last:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(last) + 1) / last)
    return response * fade
