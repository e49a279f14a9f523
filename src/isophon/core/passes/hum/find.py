"""Finding hum: the mains' frequency, how it drifts, and which of its harmonics stand in the take.

Steady lines are looked for near 50 and 60 Hz in what the quiet moments leave
of long spectra. Then the mains' frequency and, with that, their phase is
followed on all harmonics together, weighted by how clear each is (maximum
likelihood for a harmonic set in white noise: Quinn & Thomson 1991); the n-th
harmonic tells the clock n times as exactly, so they join from the lowest up as
the clock becomes sure enough to count their turns. What they tell becomes one
smooth curve (penalised splines, Eilers & Marx 1996). Each harmonic's slowly
changing amplitude and phase is estimated with weights that take out the moments
when a voice sounds on it (iteratively reweighted least squares, Holland &
Welsch 1977, Cauchy weights), and once more from what that leaves ("twicing",
Tukey 1977), so that slow changes are not flattened.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
from scipy import fft, ndimage, signal, sparse
from scipy.interpolate import BSpline, CubicSpline
from scipy.sparse.linalg import spsolve

from isophon.core.audio.hum import Hum, Partial
from isophon.core.audio.lowrate import LowRate
from isophon.core.audio.spectra import frames_of, power_spectra
from isophon.core.audio.threads import at_once, cores

_MAINS = (50.0, 60.0)  # Hz: the two in use worldwide
_DEVIATION_HZ = 1.0  # Hz to either side of these that are looked through
_GRID_HZ = 0.01  # Hz between the frequencies that are tried
_QUIET_SHARE = 25  # percentile of long spectra that is a take's quiet moments
_CLEAR_DB = 14.0  # dB, summed over the harmonics, over which there is hum
_LINE_DB = 5.0  # dB over what is beside it, over which a line counts
_MOST_DB = 18.0  # dB: no line counts for more, so that one note is no hum
_BLOCK_PERIODS = 5  # periods of the mains in a block whose amplitudes are estimated
_KNOT_S = 1.0  # s between the knots of the clock and of the amplitudes
_SMOOTH_S = 1.2  # s: amplitudes are averaged over this deviation
_EVEN_S = 2.0  # s: the same where a harmonic is compared with what lies between harmonics
_FOLLOW_S = 1.2  # s: the same while the frequency is followed
_ROUNDS = 6  # reweightings
_STRICT_ROUNDS = 6  # more of them, against what the steady part leaves
_AGAIN = 2  # times that what is left is averaged once more ("twicing")
_FOLLOWED = (4, 4, 6, 8)  # harmonics in each round that follows the frequency
_STEADY_ROUNDS = 1  # of these rounds are for one frequency throughout
# rounds that follow the phase: harmonics, and for how many s a harmonic's own phase and the clock's error are steady
_ALIGNED = ((3, 10.0, 1.0), (5, 10.0, 0.7), (8, 10.0, 0.5), (12, 10.0, 0.5), (20, 10.0, 0.3), (60, 10.0, 0.2),
            (60, 5.0, 0.2), (60, 5.0, 0.1))  # fmt: skip
_UNHEARD = 0.004  # of the mean evidence: where there is less, the frequency stays
_STIFF = 3e-4  # of the mean evidence: what the clock's bending costs
_OVER_CONTROL = 3.2  # times as strong as what lies between harmonics: a harmonic is there
_LONE_OVER_CONTROL = 8.0  # times, where it is the only one
_LEAST_PARTIALS = 3  # harmonics that make hum
_LEAST_S = 2.5  # s: a shorter take is not looked at
_LEAST_DB = -115.0  # dBFS: softer harmonics are left
_WINDOW_S, _SHORT_WINDOW_S = 2.0, 1.0  # s: length of the long spectra; of a take under 8 s
_HIGHEST_HZ = 1_250.0  # Hz up to which harmonics are looked for
_AROUND_HZ = 12.0  # Hz to either side of a line: its surroundings, in which no other harmonic lies
_BAND = 0.44  # of the low rate: its filter lets no more through
_FINE_S = 0.1  # s: step in which a frequency is added up to a phase
_LOW_HARMONICS = 6  # of which one alone may be hum
_BATCH = 64  # windows at once
_AT_ONCE = 12  # harmonics at once, so that a long take needs little memory
_SHORT = 32  # samples of the short sines that long ones are put together from
_IN_A_ROW = 256  # blocks multiplied at once
_ALIKE_HZ = 0.004  # turns the 60th harmonic by 0.04 rad from the middle of a block to its end


def find(low: LowRate, sample_rate: int) -> Hum | None:
    """The hum of a take, None where there is none.

    Parameters
    ----------
    low : the take at a low rate.
    sample_rate : its own rate, Hz.
    """
    rate = low.rate
    if low.frames < _LEAST_S * rate:
        return None
    base = _mains(low)
    if base is None:
        return None
    phases = base * np.arange(int(low.frames / rate / _KNOT_S) + 2) * _KNOT_S
    for i, highest in enumerate(_FOLLOWED):
        phases = _followed(low, base, phases, highest, steady=i < _STEADY_ROUNDS)
    phases = _aligned(low, base, phases)
    base = float((phases[-1] - phases[0]) / (len(phases) - 1) / _KNOT_S)
    return _with_partials(low, sample_rate, base, phases)


def _mains(low: LowRate) -> float | None:
    """The mains' frequency in Hz if clear lines stand at its multiples."""
    rate = low.rate
    seconds = _WINDOW_S if low.frames > 4 * _WINDOW_S * rate else _SHORT_WINDOW_S
    size = fft.next_fast_len(round(seconds * rate), real=True)
    power, loud = _spectra(low, size, int((_HIGHEST_HZ + 50) * size / rate))
    power = power[loud > 1e-9 * loud.max(initial=0)] if loud.any() else power[:0]  # digital silence tells nothing
    if len(power) < 2:
        return None
    steady = np.percentile(power, _QUIET_SHARE, axis=0).astype(np.float64) + 1e-30
    around = ndimage.percentile_filter(steady, 50, size=2 * round(_AROUND_HZ * size / rate) + 1, mode="nearest")
    standing = 10 * np.log10(steady / around)
    best: tuple[float, float] | None = None
    for mains in _MAINS:
        grid = np.arange(mains - _DEVIATION_HZ, mains + _DEVIATION_HZ, _GRID_HZ)
        lines = np.arange(1, int(_HIGHEST_HZ / mains))
        heights = np.interp(np.outer(grid, lines) * size / rate, np.arange(len(standing)), standing)
        score = np.clip(heights - _LINE_DB, 0, _MOST_DB).sum(axis=1)
        top = float(score.max())
        middle = float(grid[score >= top - 1e-9].mean())
        if top > _CLEAR_DB and (best is None or top > best[0]):
            best = (top, middle)
    return best[1] if best else None


def _spectra(low: LowRate, size: int, bins: int) -> tuple[np.ndarray, np.ndarray]:
    """Power of the lowest bins of windows that overlap by half, ``(windows, bins)``, and that of the lower half."""
    window, hop = signal.get_window("hann", size).astype(np.float32), size // 2
    count = (low.frames - size) // hop + 1
    power, loud = np.zeros((count, bins), np.float32), np.zeros(count)
    for first in range(0, count, _BATCH):
        last = min(count, first + _BATCH)
        for channel in low.span(first * hop, (last - 1) * hop + size):
            square = power_spectra(frames_of(channel, size, hop), window)[:, : size // 4]
            power[first:last] += square[:, :bins]
            loud[first:last] += square.sum(axis=1)
    return power, loud


def _followed(low: LowRate, base: float, phases: np.ndarray, highest: int, steady: bool) -> np.ndarray:
    """``phases`` (cycles of the mains at each knot) corrected by what the first harmonics tell.

    ``steady``: by one frequency for the whole take; else by one that drifts, where it is clear.
    """
    numbers = np.arange(1, min(highest, int(_BAND * low.rate / base)) + 1)
    blocks, at = _demodulated(low, base, phases, numbers)
    amplitude, sureness = _amplitudes(blocks, _FOLLOW_S / (at[1] - at[0]))
    step = max(1, round(0.5 / (at[1] - at[0])))
    turned = (amplitude[:, step:] * amplitude[:, :-step].conj()).sum(axis=0)
    weight = np.minimum(sureness[:, step:], sureness[:, :-step]).mean(axis=0) * np.abs(turned)
    numerator = (weight * numbers * np.angle(turned)).sum(axis=1)
    denominator = (weight * numbers**2).sum(axis=1)
    reach = 2.0 / (at[1] - at[0])
    smooth = ndimage.gaussian_filter1d(numerator, reach, mode="constant") / (
        ndimage.gaussian_filter1d(denominator, reach, mode="constant") + _UNHEARD * denominator.mean() + 1e-30
    )
    if steady:
        smooth = np.full_like(smooth, numerator.sum() / (denominator.sum() + 1e-30))
    hz = smooth / (2 * np.pi) / (step * (at[1] - at[0]))
    knots = np.arange(len(phases)) * _KNOT_S
    middle = at[:-step] + step * (at[1] - at[0]) / 2
    fine = np.arange(0, knots[-1] + _FINE_S / 2, _FINE_S)
    more = np.concatenate([[0.0], np.cumsum(np.interp(fine, middle, hz)[:-1] * _FINE_S)])
    return phases + np.interp(knots, fine, more)


def _aligned(low: LowRate, base: float, phases: np.ndarray) -> np.ndarray:
    """``phases`` corrected by how the harmonics' own phases turn together, more harmonics round by round."""
    most = max(highest for highest, _, _ in _ALIGNED)
    numbers = np.arange(1, min(most, int(_BAND * low.rate / base)) + 1)
    blocks, at = _demodulated(low, base, phases, numbers)
    per_s = 1 / (at[1] - at[0])
    error = np.zeros(len(at))
    for highest, own_s, clock_s in _ALIGNED:
        some = numbers[:highest]
        turned = blocks[:, :, :highest] * np.exp(-2j * np.pi * error[:, None] * some)
        amplitude, weight = _steady(turned, own_s * per_s)
        slopes = (weight * some * (amplitude.conj() * turned).imag).sum(axis=(0, 2)) / (2 * np.pi)
        evidence = (weight * np.square(some * np.abs(amplitude))).sum(axis=(0, 2))
        reach, weighted = clock_s * per_s, evidence * error + slopes
        error += _smoothed(slopes, reach, 0) / (_smoothed(evidence, reach, 0) + _UNHEARD * evidence.mean() + 1e-30)
    return phases + _at_knots(at, weighted, evidence, len(phases))


def _at_knots(at: np.ndarray, weighted: np.ndarray, evidence: np.ndarray, count: int) -> np.ndarray:
    """The smooth curve at ``count`` knots that agrees best with what is ``weighted`` at moments (s) times its evidence.

    A clock has no reason to jerk where a voice hides it, nor at the ends of a take.
    """
    knots = np.arange(count) * _KNOT_S
    spread = _KNOT_S * np.arange(-3, count + 3)
    basis = BSpline.design_matrix(at, spread, 3)
    bends = sparse.diags([1.0, -2.0, 1.0], [0, 1, 2], shape=(count, count + 2))
    stiff = _STIFF * float(evidence.mean()) + 1e-30
    matrix = basis.T @ sparse.diags(evidence) @ basis + stiff * bends.T @ bends
    return BSpline(spread, spsolve(matrix.tocsc(), basis.T @ weighted), 3)(knots)


def _demodulated(low: LowRate, base: float, phases: np.ndarray, numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Complex amplitudes ``(channels, blocks, numbers)`` of harmonics in blocks of five periods, and times in s."""
    rate = low.rate
    size = round(_BLOCK_PERIODS * rate / base)
    count = low.frames // size
    times = (np.arange(count) + 0.5) * size / rate
    knots = np.arange(len(phases)) * _KNOT_S
    middle = CubicSpline(knots, phases)(times)
    hz = np.diff(phases) / _KNOT_S
    window = signal.get_window("hann", size)
    window *= 2 / window.sum()
    offsets = (np.arange(size) - size / 2) / rate  # from the middle of the block, as counted in ``times``
    out = np.zeros((low.channels, count, len(numbers)), np.complex64)
    nearly = np.round(hz[np.clip((times / _KNOT_S).astype(int), 0, len(hz) - 1)] / _ALIKE_HZ).astype(int)
    kernels: dict[int, np.ndarray] = {}  # their phase is counted from the middle, so nearly one frequency is enough
    changes = np.flatnonzero(np.diff(nearly)) + 1
    edges = np.union1d(np.arange(0, count, _IN_A_ROW), np.append(changes, count))
    for first, last in pairwise(edges.tolist()):
        near, inside = int(nearly[first]), slice(first, last)
        if near not in kernels:
            # a long sine is short ones, each turned to where it begins
            long = np.exp(-2j * np.pi * (near * _ALIKE_HZ * offsets[::_SHORT, None] * numbers % 1.0))
            short = np.exp(-2j * np.pi * (near * _ALIKE_HZ / rate * np.arange(_SHORT)[:, None] * numbers % 1.0))
            kernel = (long[:, None] * short).reshape(-1, len(numbers))[:size] * window[:, None]
            kernels[near] = kernel.astype(np.complex64).view(np.float32)  # real and imaginary parts by turns
        kernel = kernels[near]
        turn = np.exp(-2j * np.pi * (middle[inside, None] * numbers % 1.0))
        for channel, sound in enumerate(low.span(first * size, last * size)):
            out[channel, inside] = (sound.reshape(-1, size) @ kernel).view(np.complex64) * turn
    return out, times


def _amplitudes(blocks: np.ndarray, smooth: float) -> tuple[np.ndarray, np.ndarray]:
    """The steady part of complex ``(channels, blocks, numbers)`` and how sure it is; ``smooth``: in blocks."""
    power = np.percentile(np.square(np.abs(blocks)), 20, axis=1, keepdims=True) + 1e-18
    steady, weight = _reweighted(blocks, smooth, power, _ROUNDS)
    return steady, _smoothed(weight, smooth)


def _steady(blocks: np.ndarray, smooth: float) -> tuple[np.ndarray, np.ndarray]:
    """The steady part of complex ``(channels, blocks, numbers)`` and the weight of each block, voices left out.

    What counts as a voice follows first from the power of the quiet blocks, then from what the steady part leaves.
    """
    shares = np.array_split(blocks, min(cores(), blocks.shape[2]), axis=2)  # none tells anything of another
    steady, weight = zip(*at_once(lambda share: _steady_share(share, smooth), shares), strict=True)
    return np.concatenate(steady, axis=2), np.concatenate(weight, axis=2)


def _steady_share(blocks: np.ndarray, smooth: float) -> tuple[np.ndarray, np.ndarray]:
    steady, _ = _amplitudes(blocks, smooth)
    for _ in range(_STRICT_ROUNDS):
        power = np.percentile(np.square(np.abs(blocks - steady)), 20, axis=1, keepdims=True) + 1e-18
        steady, weight = _reweighted(blocks, smooth, power, 1, steady)
        total = _smoothed(weight, smooth)
        for _ in range(_AGAIN):
            steady = steady + _smoothed(weight * (blocks - steady), smooth) / total
    return steady, weight


def _reweighted(blocks: Any, smooth: Any, power: Any, rounds: int, steady: Any = 0.0) -> tuple[np.ndarray, Any]:
    for _ in range(rounds):
        weight = (1 / (np.square(np.abs(blocks - steady)) + power)).astype(np.float32)
        steady = _weighted(blocks, weight, smooth)
    return steady, weight


def _weighted(blocks: np.ndarray, weight: np.ndarray, smooth: float) -> np.ndarray:
    return _smoothed(weight * blocks, smooth) / _smoothed(weight, smooth)


def _smoothed(values: np.ndarray, deviation: float, axis: int = 1) -> np.ndarray:
    """Nearly a Gaussian of that deviation: three running means; beyond the ends there is nothing."""
    size = 2 * round((np.sqrt(4 * deviation**2 + 1) - 1) / 2) + 1  # odd: in the middle
    parts = np.ascontiguousarray(values).view(values.real.dtype)  # real and imaginary ones at once
    for _ in range(3):
        parts = ndimage.uniform_filter1d(parts, size, axis=axis, mode="constant")
    return parts.view(values.dtype)


def _with_partials(low: LowRate, sample_rate: int, base: float, phases: np.ndarray) -> Hum | None:
    """The harmonics that clearly stand over what the same estimate gives halfway between harmonics."""
    numbers = np.arange(1, int(_BAND * low.rate / base) + 1)
    smooth, evenly = (seconds * base / _BLOCK_PERIODS for seconds in (_SMOOTH_S, _EVEN_S))
    knots = np.arange(len(phases)) * _KNOT_S

    def levels_of(first: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Levels, those beside, and tracks of some harmonics: all at once would take much room for a long take."""
        some = numbers[first : first + _AT_ONCE]
        both, at = _demodulated(low, base, phases, np.concatenate([some, some + 0.5]))
        blocks = both[:, :, : len(some)]
        even, beside = np.split(_amplitudes(both, evenly)[0], 2, axis=2)
        amplitude, _ = _steady_share(blocks, smooth)
        level, control = (np.sqrt(np.square(np.abs(one)).mean(axis=(0, 1)) / 2) for one in (even, beside))
        return level, control, _between(amplitude, at, knots).astype(np.complex64)

    levels, controls, tracks = zip(*at_once(levels_of, range(0, len(numbers), _AT_ONCE)), strict=True)
    level, control = np.concatenate(levels), np.concatenate(controls)
    control = (
        ndimage.percentile_filter(np.sqrt(control * np.append(control[:1], control[:-1])), 80, 9, mode="nearest") + 1e-9
    )
    clear = (level > _OVER_CONTROL * control) & (20 * np.log10(level + 1e-12) > _LEAST_DB)
    lone = np.any(level[:_LOW_HARMONICS] > _LONE_OVER_CONTROL * control[:_LOW_HARMONICS])
    if np.count_nonzero(clear) < (1 if lone else _LEAST_PARTIALS):
        return None
    chosen = np.flatnonzero(clear)
    partials = tuple(
        Partial(int(numbers[i]), round(float(numbers[i] * base), 3), round(float(20 * np.log10(level[i])), 1),
                round(float(20 * np.log10(level[i] / control[i])), 1))
        for i in chosen
    )  # fmt: skip
    chosen_tracks = np.ascontiguousarray(np.concatenate(tracks, axis=2)[:, :, chosen])
    hz = np.diff(phases) / _KNOT_S
    return Hum(
        round(base, 4), round(float(np.ptp(hz)), 4), partials, round(_KNOT_S * sample_rate), low.channels,
        phases.astype(np.float64).tobytes(), chosen_tracks.tobytes(),
    )  # fmt: skip


def _between(values: np.ndarray, at: np.ndarray, knots: np.ndarray) -> np.ndarray:
    """Complex ``(channels, blocks, n)`` at other times, straight between blocks."""
    later = np.clip(np.searchsorted(at, knots), 1, len(at) - 1)
    share = np.clip((knots - at[later - 1]) / (at[later] - at[later - 1]), -0.5, 1.5)[None, :, None]
    return values[:, later - 1] * (1 - share) + values[:, later] * share
