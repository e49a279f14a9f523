"""Learning how a cue reached the microphone, and predicting its leak.

The path is a filter of some tens of milliseconds for each cue channel, estimated
by regularised weighted least squares (Wiener's equations with weights): both signals are first whitened
by the noise of the take's stillest moments, and each moment counts by how little
else sounds in it (iteratively reweighted, so that the voice freezes the learning).
The normal equations are solved by conjugate gradients (Hestenes & Stiefel 1952) over
the moments in which the leak is heard best, products done by FFT. A path that wanders is followed in pieces that
lean on the whole take's path, and only where that explains other moments of
the same piece better.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy import fft, ndimage, signal

_PATH_S, _BEFORE_S = 0.075, 0.006  # the path's length, and how much of it lies before the found delay
_WEIGHTS_S, _FLOOR_PERCENTILE = (0.5, 0.1, 0.04, 0.02, 0.02), 5  # finer each time
_GRADIENTS, _OWN_SHARE = 32, 0.3
_BLOCK, _MOST_S = 8_192, 60.0
_RIDGES, _DECAY_S = (1e-3, 1e-2, 0.1, 1.0), 0.02
_PIECE_S, _FOLLOW_RIDGE = 12.0, 0.02
_PAYS_DB, _FOLLOW_FROM_DB = 0.4, 0.3
_CHECK_S = 0.4
_LOWEST_HZ, _BANDS, _CLEAR_SHARE = 90.0, 14, 0.05
_TRUST_S, _TRUST_PRIOR, _DOUBT = 3.0, 0.3, 0.25


@dataclass(frozen=True, eq=False)
class Learned:
    """``leak``: the predicted leak, ``(n,)`` float32, as far as it is trusted; ``path``: ``(cues, taps)`` of the whole
    take; ``before_s``: how much of the path lies before the delay; ``followed``: the share of pieces
    with their own; ``explained_db``: what it explains of moments it was not learned from, 0: no leak.
    """

    leak: np.ndarray
    path: np.ndarray
    before_s: float
    followed: float
    explained_db: float


def learn(
    take: np.ndarray, cues: np.ndarray, rate: int, follow: bool = True, tell: Callable[[float], None] | None = None
) -> Learned:
    """Learn the leak of cues ``(cues, n)``, aligned within some ms, in a take ``(n,)`` at the same rate."""
    tell = tell or (lambda fraction: None)
    taps, before = round(_PATH_S * rate), round(_BEFORE_S * rate)
    early = np.stack([moved(cue, -before, len(take)) for cue in cues])  # the path begins before the delay
    whitener = _whitener(take, rate)
    white_take = signal.oaconvolve(take, whitener, "same").astype(np.float32)
    white_cues = np.stack([signal.oaconvolve(cue, whitener, "same").astype(np.float32) for cue in early])
    path = np.zeros((len(cues), taps))
    weight = _weight(white_take, rate, _WEIGHTS_S[0])  # at first coarse: a leak must not count against itself
    most = max(1, round(_MOST_S * rate / _BLOCK))
    for i, around_s in enumerate(_WEIGHTS_S[1:]):
        tell(0.15 * i)
        path = _solved(_Moments(white_take, white_cues, weight, taps, most), np.zeros_like(path), _RIDGES[0], rate)
        leak = _through(white_cues, path)
        weight = _weight(white_take - leak, rate, around_s, leak)
    lean, explained, bands = _best_ridge(white_take, white_cues, weight, taps, most, rate)
    if explained <= 0:
        return Learned(np.zeros(len(take), np.float32), np.zeros_like(path, np.float32), _BEFORE_S, 0.0, 0.0)
    path = _solved(_Moments(white_take, white_cues, weight, taps, most), np.zeros_like(path), lean, rate)
    path = _in_bands(path, bands, rate)
    leak = _through(early, path)
    tell(0.7)
    followed = 0.0
    if follow and explained > _FOLLOW_FROM_DB:
        leak, followed = _followed(white_take, white_cues, early, weight, path, leak, rate)
    trust = _trust(white_take, signal.oaconvolve(leak, whitener, "same"), weight, rate)
    return Learned((leak * trust).astype(np.float32), path.astype(np.float32), _BEFORE_S, followed, explained)


def moved(samples: np.ndarray, by: int, count: int) -> np.ndarray:
    """``samples`` moved later by ``by`` frames, ``count`` long."""
    out = np.zeros(count, np.float32)
    first, last = max(0, by), min(count, len(samples) + by)
    if last > first:
        out[first:last] = samples[first - by : last - by]
    return out


def _through(cues: np.ndarray, path: np.ndarray) -> np.ndarray:
    """The cues through their paths, summed, float32 ``(n,)``."""
    return sum(
        signal.oaconvolve(cue, way.astype(np.float32))[: cues.shape[1]] for cue, way in zip(cues, path, strict=True)
    )


def _whitener(take: np.ndarray, rate: int) -> np.ndarray:
    """A short linear-phase filter that flattens the noise of the take's stillest moments."""
    size = 512
    frames = np.lib.stride_tricks.sliding_window_view(take, size)[:: 2 * size]
    power = np.square(np.abs(np.fft.rfft(frames * np.hanning(size), axis=1)))
    loud = power.sum(axis=1)
    some = loud > 1e-9 * loud.max()
    still = power[some & (loud <= np.percentile(loud[some], 15))] if some.any() else power
    density = ndimage.uniform_filter1d(still.mean(axis=0), 9) if len(still) else np.ones(size // 2 + 1)
    hz = np.fft.rfftfreq(size, 1 / rate)
    response = 1 / np.sqrt(density + 1e-3 * density.max() * 1e-2 + 1e-20)
    response *= np.clip((hz - 60) / 90, 0, 1) * np.clip((0.46 * rate - hz) / (0.04 * rate), 0, 1)
    taps = np.roll(np.fft.irfft(response / response.max()), size // 2)[: size - 1] * np.hanning(size - 1)
    return taps.astype(np.float32)


def _weight(error: np.ndarray, rate: int, around_s: float, leak: np.ndarray | None = None) -> np.ndarray:
    """How much each moment counts: one over the power of what else sounds around it.

    What a path that is not right yet leaves of the ``leak`` itself is nothing else.
    """
    power = ndimage.uniform_filter1d(np.square(error, dtype=np.float64), round(around_s * rate))
    if leak is not None:
        power -= _OWN_SHARE * ndimage.uniform_filter1d(np.square(leak, dtype=np.float64), round(around_s * rate))
    power = ndimage.maximum_filter1d(np.maximum(power, 0), round(around_s * rate))
    floor = np.percentile(power[:: max(1, rate // 50)], _FLOOR_PERCENTILE) + 1e-14
    return (floor / (power + floor)).astype(np.float32)


class _Moments:
    """The moments of a take in which the leak is heard best, ready for products with paths."""

    def __init__(self, take: np.ndarray, cues: np.ndarray, weight: np.ndarray, taps: int, most: int) -> None:
        self.taps, self.size = taps, fft.next_fast_len(_BLOCK + taps, real=True)
        count = max(1, len(take) // _BLOCK)
        worth = [float(np.dot(weight[i : i + _BLOCK], np.square(cues[:, i : i + _BLOCK]).sum(axis=0)))
                 for i in range(0, count * _BLOCK, _BLOCK)]  # fmt: skip
        chosen = np.sort(np.argsort(worth)[::-1][:most]) * _BLOCK
        padded = np.pad(cues, ((0, 0), (taps, _BLOCK)))
        self.cues = np.stack([
            fft.rfft(np.stack([cue[at : at + _BLOCK + taps] for at in chosen]), self.size, axis=1) for cue in padded
        ])  # fmt: skip
        self.take = np.stack([_padded(take[at : at + _BLOCK]) for at in chosen])
        self.weight = np.stack([_padded(weight[at : at + _BLOCK]) for at in chosen])

    def through(self, path: np.ndarray) -> np.ndarray:
        """The cues through their paths, ``(blocks, frames)``."""
        ways = fft.rfft(path.astype(np.float32), self.size, axis=1)
        return fft.irfft((self.cues * ways[:, None]).sum(axis=0), self.size, axis=1)[:, self.taps : self.taps + _BLOCK]

    def correlated(self, error: np.ndarray) -> np.ndarray:
        """The correlations of an error ``(blocks, frames)`` with the cues, ``(cues, taps)``."""
        spectrum = fft.rfft(np.pad(error, ((0, 0), (self.taps, 0))), self.size, axis=1)
        both = (self.cues.conj() * spectrum).sum(axis=1)
        return fft.irfft(both, self.size, axis=1)[:, : self.taps].astype(np.float64)

    def power(self) -> np.ndarray:
        """The weighted power of each cue over frequency, ``(cues, bins)``, for the preconditioner."""
        heard = self.weight.mean(axis=1)[None, :, None]
        power = (heard * (np.square(self.cues.real) + np.square(self.cues.imag))).sum(axis=1) * _BLOCK / self.size
        return np.maximum(ndimage.uniform_filter1d(power, 65, axis=1), 1e-20)


def _padded(piece: np.ndarray) -> np.ndarray:
    return np.pad(piece, (0, _BLOCK - len(piece)))


def _best_ridge(take, cues, weight, taps: int, most: int, rate: int) -> tuple[float, float, np.ndarray]:
    """How much a path must lean towards nothing, judged by moments that it was not learned from, and what it explains.

    In dB of the weighted error; 0 or less: no path is better than none. Also which bands it explains at all: a
    voice in unison with the feed looks like a path in its own octaves, but another one each time.
    """
    half = (np.arange(len(take)) // (4 * _BLOCK)) % 2 == 1
    sides = [_Moments(take, cues, weight * side, taps, most // 2 + 1) for side in (half, ~half)]
    edges = np.geomspace(_LOWEST_HZ, rate / 2, _BANDS + 1) * sides[0].size / rate
    best = _RIDGES[0], -np.inf, np.zeros(_BANDS)
    for lean in _RIDGES:
        gains, bands = [], []
        for mine, other in (sides, sides[::-1]):
            path = _solved(mine, np.zeros((len(cues), taps)), lean, rate)
            spectra = [_power_of(np.sqrt(other.weight) * (other.take - x), other.size)
                       for x in (0.0, other.through(path))]  # fmt: skip
            gains.append(10 * np.log10((spectra[0].sum() + 1e-30) / (spectra[1].sum() + 1e-30)))
            bands.append([10 * np.log10(x[0] / x[1]) for x in _by_bands(spectra, edges)])
        if min(gains) > best[1]:
            best = lean, min(gains), np.min(bands, axis=0)
    return best


def _power_of(blocks: np.ndarray, size: int) -> np.ndarray:
    spectrum = fft.rfft(blocks, size, axis=1)
    return (np.square(spectrum.real) + np.square(spectrum.imag)).sum(axis=0)


def _by_bands(spectra: list[np.ndarray], edges: np.ndarray) -> list[tuple[float, float]]:
    spans = [slice(int(a), max(int(a) + 1, int(b))) for a, b in pairwise(edges)]
    return [tuple(float(s[span].sum()) + 1e-30 for s in spectra) for span in spans]


def _in_bands(path: np.ndarray, gains_db: np.ndarray, rate: int) -> np.ndarray:
    """The path without the bands in which it explains nothing."""
    size = 2 * path.shape[1]
    hz = np.fft.rfftfreq(size, 1 / rate)
    edges = np.geomspace(_LOWEST_HZ, rate / 2, _BANDS + 1)
    middles = np.sqrt(edges[1:] * edges[:-1])
    mask = np.interp(
        np.log(np.maximum(hz, 1.0)), np.log(middles), np.clip(gains_db / (_CLEAR_SHARE * gains_db.max() + 1e-12), 0, 1)
    )
    return fft.irfft(fft.rfft(path, size, axis=1) * mask, size, axis=1)[:, : path.shape[1]]


def _solved(heard: _Moments, start: np.ndarray, lean: float, rate: int) -> np.ndarray:
    """The path that explains the take best under the weights and leans on ``start`` ``(cues, taps)``.

    Preconditioned conjugate gradients; the preconditioner takes the cues as steady sounds.
    """
    power = heard.power()
    away = np.arange(heard.taps) / rate - _BEFORE_S  # what is far from the delay is less likely to be the path
    ridge = lean * float(power.mean()) * np.exp(np.abs(away) / np.where(away < 0, _BEFORE_S / 4, _DECAY_S))
    inverse = 1 / (power + float(np.exp(np.log(ridge).mean())))

    def eased(x: np.ndarray) -> np.ndarray:
        return fft.irfft(fft.rfft(x, heard.size, axis=1) * inverse, heard.size, axis=1)[:, : heard.taps]

    def product(x: np.ndarray) -> np.ndarray:
        return heard.correlated(heard.weight * heard.through(x)) + ridge * x

    more = np.zeros_like(start)
    left = heard.correlated(heard.weight * (heard.take - heard.through(start)))
    direction = eased(left)
    energy = float((left * direction).sum())
    until = 1e-8 * energy
    for _ in range(_GRADIENTS):
        if energy <= until:
            break
        moved = product(direction)
        step = energy / float((direction * moved).sum())
        more += step * direction
        left -= step * moved
        better = eased(left)
        before, energy = energy, float((left * better).sum())
        direction = better + energy / before * direction
    return start + more


def _followed(white_take, white_cues, cues, weight, path, leak, rate) -> tuple[np.ndarray, float]:
    """The leak with paths of their own for pieces where that pays, and the share of those pieces."""
    size = round(_PIECE_S * rate)
    step, count = size // 2, len(white_take)
    if count < 2 * size:
        return leak, 0.0
    taps, most = path.shape[1], max(1, round(_PIECE_S * rate / _BLOCK))
    out, total, own = np.zeros(count, np.float32), np.zeros(count, np.float32), 0
    firsts = list(range(0, max(1, count - step), step))
    window = (signal.get_window("hann", size, fftbins=False) + 1e-6).astype(np.float32)
    half = round(_CHECK_S * rate)
    for first in firsts:
        span = slice(first, min(count, first + size))
        margin = slice(max(0, first - path.shape[1]), span.stop)
        skip = span.start - margin.start
        heard = weight[margin].copy()
        heard[:skip] = 0
        odd = (np.arange(len(heard)) // half) % 2 == 1
        pieces = white_take[margin], white_cues[:, margin]
        learned = _solved(_Moments(*pieces, heard * ~odd, taps, most), path, _FOLLOW_RIDGE, rate)
        errors = [np.sum((heard * odd) * np.square(pieces[0] - _through(pieces[1], p))) for p in (path, learned)]
        if errors[1] > 0 and 10 * np.log10(errors[0] / errors[1]) > _PAYS_DB:
            mine = _through(cues[:, margin], _solved(_Moments(*pieces, heard, taps, most), path, _FOLLOW_RIDGE, rate))[
                skip:
            ]
            own += 1
        else:
            mine = leak[span]
        shape = window[: span.stop - span.start]
        out[span] += shape * mine
        total[span] += shape
    return out / np.maximum(total, 1e-6), own / len(firsts)


def _trust(take: np.ndarray, leak: np.ndarray, weight: np.ndarray, rate: int) -> np.ndarray:
    """How much of the prediction is really in the take, from 0 to 1, from moment to moment."""
    reach = round(_TRUST_S * rate)
    step = max(1, rate // 100)
    length = max(3, reach // step)
    both, own = (ndimage.uniform_filter1d((weight * x).astype(np.float64)[::step], length, mode="constant")
                 for x in (take * leak, leak * leak))  # fmt: skip
    share = (both + _TRUST_PRIOR * own.mean()) / (own + _TRUST_PRIOR * own.mean() + 1e-30)
    return np.interp(
        np.arange(len(take)), np.arange(len(share)) * step, np.clip((share - _DOUBT) / _DOUBT, 0, 1)
    ).astype(np.float32)
