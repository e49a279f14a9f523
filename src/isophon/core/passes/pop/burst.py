"""A pop's burst, separated from the voice under it: two random processes that add up, each with its own covariance.

The burst is low noise that begins at once and dies away; the voice is harmonics of its pitch, as strong as beside
the burst and as loud as its higher partials go; the rest is noise. When, how strong, how high and how long the burst
is, is what makes the sound most likely; the burst is then its conditional mean (Rasmussen & Williams 2006, chapters
2 and 5: Gaussian processes). Everything at 1 kHz, where a pop's whole sound lies.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from scipy import linalg, ndimage, signal

RATE = 1_000  # Hz at which bursts are estimated: they lie under 450 Hz
BEFORE_S, AFTER_S = 0.12, 0.25  # s around a mark that are looked at
_LEAD_S, _TRAIL_S = 0.05, 0.06  # and where its shape is looked for
_RISE_S = 0.003  # s in which a burst rises
_BEGINS_S, _STEP_S = 0.046, 0.003  # after the mark's start: the levels that marks come from are smooth
_DECAYS_S = (0.015, 0.03, 0.06, 0.12)  # s: time constants by which it may die away
_TOPS_HZ = (40.0, 60.0, 80.0, 100.0)  # Hz up to which its spectrum may reach
_STRENGTHS = (0.25, 1.0, 4.0, 16.0, 64.0)  # times its first power that are tried
_STEEP = 12  # order of its low-pass
_NEARBY_HZ = (250.0, 470.0)  # partials that a burst hardly reaches tell how the voice's lows rise
_REACHES_HZ = (30.0, 450.0)  # Hz: the lowest and the highest that are asked for
_BESIDE_S = 0.02  # s before the burst that are not taken for the voice alone
_LEAST_REFERENCE_S = 0.04  # s of voice that tell its partials
_REFERENCE_S = 0.1  # s of it that are used
_STEADY_S = 0.08  # over which a partial keeps its strength and phase
_LOUDEST = 1.5  # the voice within the burst is not taken to be much louder than beside it
_HIGHEST_PARTIAL_HZ = 480.0  # Hz up to which partials are modelled
_MOST_PARTIALS = 8  # of a voice
_NEARBY_S = 0.008  # s over which the power near a moment is averaged
_NOISE_PERCENTILE, _NOISE_S = 40, 0.06  # of that within these s: the noise
_VOICING_S = 0.01  # s over which a voice begins and ends
_FIRST = (0.025, 0.04, 80.0, 4.0)  # of the search: two times in s, Hz, and power over what is there
_LEAST_SHARE, _LEAST_POWER = 1e-6, 1e-15  # of the sound's own power; and of what is silent


class Shape(NamedTuple):
    """A burst begins at ``start`` (s), falls to 1/e in ``decay`` s, reaches up to ``top_hz``, of ``power``."""

    start: float
    decay: float
    top_hz: float
    power: float


def burst_in(lows: np.ndarray, hz: np.ndarray, length: float, high_hz: float) -> np.ndarray:
    """The burst alone.

    Parameters
    ----------
    lows : ``(channels, n)`` at ``RATE``; they begin ``BEFORE_S`` before the mark.
    hz : ``(n,)``, the pitch, 0 where there is none.
    length : of the mark, s.
    high_hz : up to which the burst is wanted.

    Returns
    -------
    ``(channels, n)``.
    """
    mono = lows.mean(axis=0)
    times = np.arange(len(mono)) / RATE - BEFORE_S
    rest = _voice_covariance(mono, hz, (times < -_BESIDE_S) | (times > length)) + np.diag(_noise(mono))
    burst = _burst_covariance(_likeliest(mono, rest, times, length), times)
    weights = linalg.solve(rest + burst, lows.T, assume_a="pos", check_finite=False)
    return signal.sosfiltfilt(_low_pass(float(np.clip(high_hz, *_REACHES_HZ))), (burst @ weights).T)


@lru_cache(maxsize=8)
def _low_pass(high_hz: float) -> np.ndarray:
    return signal.butter(4, high_hz, fs=RATE, output="sos")


@lru_cache(maxsize=32)
def _correlation(top_hz: float, size: int) -> np.ndarray:
    """Of noise up to ``top_hz``, ``(size, size)``."""
    hz = np.fft.rfftfreq(4 * size, 1 / RATE)
    over_lags = np.fft.irfft(1 / (1 + (hz / top_hz) ** _STEEP))[:size]
    return linalg.toeplitz(over_lags / over_lags[0])


def _burst_covariance(shape: Shape, times: np.ndarray, first: int = 0) -> np.ndarray:
    """Of the burst, at the ``times`` from the ``first`` on."""
    since = times[first:] - shape.start
    level = np.clip(since / _RISE_S, 0, 1) * np.exp(-np.maximum(since, 0) / shape.decay)
    return shape.power * _correlation(shape.top_hz, len(times))[first:, first:] * np.outer(level, level)


def _nearby(mono: np.ndarray) -> np.ndarray:
    """Power of what lies over the burst, smoothed over some ms."""
    band = signal.butter(2, _NEARBY_HZ, "band", fs=RATE, output="sos")
    return ndimage.gaussian_filter1d(np.square(signal.sosfiltfilt(band, mono)), _NEARBY_S * RATE)


def _noise(mono: np.ndarray) -> np.ndarray:
    """Variance of what is neither burst nor partials, frame by frame; a burst's own start is no noise."""
    least = _LEAST_SHARE * float(np.mean(np.square(mono))) + _LEAST_POWER
    return ndimage.percentile_filter(_nearby(mono), _NOISE_PERCENTILE, size=round(_NOISE_S * RATE)) + least


def _voice_covariance(mono: np.ndarray, hz: np.ndarray, beside: np.ndarray) -> np.ndarray:
    """Of the voice's partials; zeros where there are none beside the burst."""
    sung = hz > 0
    reference = np.flatnonzero(sung & beside)
    if len(reference) < _LEAST_REFERENCE_S * RATE:
        return np.zeros((len(mono), len(mono)))
    middle = np.mean(np.flatnonzero(~beside))
    reference = reference[np.argsort(np.abs(reference - middle), kind="stable")[: round(_REFERENCE_S * RATE)]]
    track = np.interp(np.arange(len(mono)), np.flatnonzero(sung), hz[sung])
    phase = 2 * np.pi * np.cumsum(track) / RATE
    partials = np.arange(1, 1 + max(1, min(_MOST_PARTIALS, int(_HIGHEST_PARTIAL_HZ / np.median(track[sung])))))
    level = np.sqrt(_nearby(mono) + 1e-14)
    level = np.clip(level / np.sqrt(np.mean(level[reference] ** 2)), 0, _LOUDEST)
    level *= ndimage.gaussian_filter1d(sung.astype(float), _VOICING_S * RATE)
    waves = level * np.exp(1j * np.outer(partials, phase))
    basis = np.concatenate([waves.real, waves.imag])
    found = linalg.lstsq(basis[:, reference].T, mono[reference], cond=1e-3, check_finite=False)[0]
    power = np.square(found).reshape(2, -1).sum(axis=0) / 2
    between = np.subtract.outer(phase, phase)
    times = np.arange(len(mono)) / RATE
    covariance = sum(p * np.cos(k * between) for k, p in zip(partials, power, strict=True))
    return covariance * np.exp(-0.5 * np.square(np.subtract.outer(times, times) / _STEADY_S)) * np.outer(level, level)


def _likeliest(mono: np.ndarray, rest: np.ndarray, times: np.ndarray, length: float) -> Shape:
    """The shape under which the sound in and around a mark is most likely, looked for along one axis at a time."""
    inside = np.flatnonzero((times > -_LEAD_S) & (times < length + _TRAIL_S))
    span = slice(int(inside[0]), int(inside[-1]) + 1)
    samples, rest, times = mono[span], rest[span, span], times[span]
    power = max(float(np.mean(np.square(samples))), _LEAST_POWER)
    best, known = Shape(*_FIRST[:3], _FIRST[3] * power), dict[Shape, float]()
    try:
        beside = _Beside(samples, rest)
    except linalg.LinAlgError:
        return best

    def likelihood(shape: Shape) -> float:
        if shape not in known:
            first = int(np.searchsorted(times, shape.start, side="right"))
            known[shape] = beside.likelihood(first, _burst_covariance(shape, times, first))
        return known[shape]

    for _ in range(2):
        for others in _along(power, length):
            best = max(others(best), key=likelihood)
    return best


def _along(power: float, length: float) -> Iterator[Callable[[Shape], list[Shape]]]:
    """For each axis: the shapes along it, all else as in the given one."""
    begins = np.arange(0.0, max(_BEGINS_S, length / 2), _STEP_S)
    yield lambda shape: [shape._replace(start=float(s)) for s in begins]
    yield lambda shape: [shape._replace(decay=d) for d in _DECAYS_S]
    yield lambda shape: [shape._replace(top_hz=t) for t in _TOPS_HZ]
    yield lambda shape: [shape._replace(power=power * s) for s in _STRENGTHS]


class _Beside:
    """A sound and the covariance ``(n, n)`` of all but the burst in it.

    Before a burst begins its covariance is nothing, so that of its Cholesky factor only the later rows change: they are
    the factor of what the earlier ones leave of the covariance (its Schur complement) plus the burst's.
    """

    def __init__(self, samples: np.ndarray, rest: np.ndarray) -> None:
        self._root = linalg.cholesky(rest, lower=True, check_finite=False)
        self._white = linalg.solve_triangular(self._root, samples, lower=True, check_finite=False)
        self._minus_log_likelihood = np.cumsum(0.5 * self._white**2 + np.log(np.diag(self._root)))
        self._left = {0: rest}

    def likelihood(self, first: int, burst: np.ndarray) -> float:
        """Logarithm of the likelihood, but for a constant, with a burst of covariance ``(n, n)`` from ``first`` on."""
        if first not in self._left:  # from the nearest that is known
            known = max(at for at in self._left if at < first)
            more = self._root[first:, known:first]
            self._left[first] = self._left[known][first - known :, first - known :] - more @ more.T
        try:
            root = linalg.cholesky(self._left[first] + burst, lower=True, check_finite=False)
        except linalg.LinAlgError:
            return -np.inf
        samples = self._root[first:, first:] @ self._white[first:]
        white = linalg.solve_triangular(root, samples, lower=True, check_finite=False)
        before = self._minus_log_likelihood[first - 1] if first else 0.0
        return float(-before - 0.5 * white @ white - np.log(np.diag(root)).sum())
