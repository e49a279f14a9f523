"""Filters from published designs."""

from __future__ import annotations

import math
from functools import lru_cache

import numpy as np
from scipy import signal


@lru_cache(maxsize=16)
def k_weighting(sample_rate: int) -> np.ndarray:
    """K-weighting at any rate.

    ITU-R BS.1770-5 tabulates 48 kHz only. Its two filters are a high shelf and a high pass; their analogue parameters
    (as derived by De Man 2014, "Evaluation of implementations of the EBU R128 loudness measurement") give the tabulated
    coefficients back at 48 kHz and the same curve elsewhere.

    Parameters
    ----------
    sample_rate : Hz.

    Returns
    -------
    Two second-order sections, ``(2, 6)``.
    """
    return np.array([_shelf(sample_rate), _high_pass(sample_rate)])


def _shelf(sample_rate: int) -> list[float]:
    centre, gain_db, q = 1681.974450955533, 3.999843853973347, 0.7071752369554196
    k = math.tan(math.pi * centre / sample_rate)
    high = 10 ** (gain_db / 20)
    band = high**0.4996667741545416
    norm = 1 + k / q + k * k
    return [
        (high + band * k / q + k * k) / norm,
        2 * (k * k - high) / norm,
        (high - band * k / q + k * k) / norm,
        1.0,
        2 * (k * k - 1) / norm,
        (1 - k / q + k * k) / norm,
    ]


def _high_pass(sample_rate: int) -> list[float]:
    centre, q = 38.13547087602444, 0.5003270373238773
    k = math.tan(math.pi * centre / sample_rate)
    norm = 1 + k / q + k * k
    return [1.0, -2.0, 1.0, 1.0, 2 * (k * k - 1) / norm, (1 - k / q + k * k) / norm]


def k_power_response(freqs: np.ndarray, sample_rate: int) -> np.ndarray:
    """The squared magnitude of the K-weighting.

    Parameters
    ----------
    freqs : Hz, of any shape.
    sample_rate : Hz.

    Returns
    -------
    In the shape of ``freqs``.
    """
    _, response = signal.sosfreqz(k_weighting(sample_rate), worN=freqs, fs=sample_rate)
    return np.abs(response) ** 2


@lru_cache(maxsize=256)
def linear_phase_band(sample_rate: int, low: float, high: float | None, width: float) -> np.ndarray:
    """A linear-phase filter of odd length that passes a band (Kaiser window, 60 dB; Kaiser 1974).

    Its delay is half its length, so that a centred convolution has zero phase.

    Parameters
    ----------
    sample_rate : Hz.
    low, high : of the band, Hz; None: to the top.
    width : of the transition, centred on each edge, Hz.

    Returns
    -------
    ``(taps,)``.
    """
    taps, beta = signal.kaiserord(60.0, width / (sample_rate / 2))
    taps |= 1
    nyquist = sample_rate / 2
    if high is None or high + width / 2 >= nyquist:
        return signal.firwin(taps, low, window=("kaiser", beta), pass_zero=False, fs=sample_rate)
    return signal.firwin(taps, [low, high], window=("kaiser", beta), pass_zero=False, fs=sample_rate)


class BothWays:
    """Second-order sections run forwards and backwards, so that nothing moves in time.

    As :func:`scipy.signal.sosfiltfilt` with its usual ends, for a filter that many short sounds go through: how it
    starts is worked out once.
    """

    def __init__(self, sections: np.ndarray) -> None:
        self._sections, self._start = sections, signal.sosfilt_zi(sections)
        zeros = min(int((sections[:, 2] == 0).sum()), int((sections[:, 5] == 0).sum()))
        self._reach = 3 * (2 * len(sections) + 1 - zeros)

    def __call__(self, sound: np.ndarray) -> np.ndarray:
        """A sound ``(n,)`` filtered, float64."""
        reach = min(self._reach, len(sound) - 1)
        sound = np.concatenate([2 * sound[0] - sound[reach:0:-1], sound, 2 * sound[-1] - sound[-2 : -reach - 2 : -1]])
        for _ in range(2):
            sound = signal.sosfilt(self._sections, sound, zi=self._start * sound[0])[0][::-1]
        return sound[reach : len(sound) - reach]
