"""A pop's burst taken out: the lows of the blob alone, without the voice's own partials.

Inside the mark the lows are split off with a linear-phase filter. What the voice
itself has there is modelled as harmonics of its pitch (Stylianou 2001): fitted
by least squares where the burst has passed, carried back into it along the pitch,
and given the rise of the voice's next higher partials, which the burst does not
reach. The rest is the burst. Nothing above 500 Hz changes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import Any

import msgspec
import numpy as np
import soxr
from scipy import ndimage, signal

from isophon.core.audio import pitch
from isophon.core.marks import GONE_DB
from isophon.core.passes.kind import At, Read, Stage

_AROUND_S = 0.16
_FIT_S = (0.0, 0.09)  # after the mark's end
_FILTER_S = 0.036
_LEAST_HZ = 60.0
_CLEAR_PITCH = 0.35
_LOUDEST = 1.5  # the voice within the burst is not taken to be much louder than after it


class PopCut(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last``: the burst up to ``high_hz`` scaled by ``gain`` within edges of ``edge`` frames."""

    first: int
    last: int
    edge: int
    gain: float
    high_hz: float
    sample_rate: int


def treatments(part: Any) -> Iterator[PopCut]:
    """What is done to the pops of a part."""
    rate, frames = part.source.sample_rate, part.source.frames
    edge = round(part.pop.edge_ms / 1000 * rate)
    for mark, change in part.changed("pop"):
        first, last = (min(frames, max(0, round(t * rate))) for t in mark.span)
        if last - first >= 2:
            gain = 0.0 if change <= GONE_DB else float(10 ** (change / 20))
            yield PopCut(first, last, edge, gain, mark.hand.high_hz or mark.high_hz, rate)


def reach(sample_rate: int) -> int:
    """How far around a mark its burst depends on the take, in frames."""
    return round((_AROUND_S + _FILTER_S) * sample_rate)


def apply(block: np.ndarray, start: int, cuts: list[tuple[PopCut, np.ndarray]]) -> np.ndarray:
    """A copy of ``block`` (the take's frames from ``start``) with the bursts, see :func:`burst_of`, scaled."""
    out = block.copy()
    for cut, burst in cuts:
        first, last = max(start, cut.first), min(start + block.shape[1], cut.last)
        if last > first:
            out[:, first - start : last - start] -= (1 - cut.gain) * burst[:, first - cut.first : last - cut.first]
    return out


def burst_of(read: Read, cut: PopCut) -> np.ndarray:
    """The burst alone between smooth edges, float32 ``(channels, last − first)``; ``read`` gives the take."""
    rate, around = cut.sample_rate, reach(cut.sample_rate)
    samples = read(cut.first - around, cut.last - cut.first + 2 * around).astype(np.float64)
    taps = _low_pass(cut.high_hz, rate)
    lows = np.stack([signal.oaconvolve(channel, taps, "same") for channel in samples])
    inside = slice(around, samples.shape[1] - around)
    voice = _voice(samples, lows, cut, around)
    return ((lows - voice)[:, inside] * _weights(cut)).astype(np.float32)


@lru_cache(maxsize=64)
def _low_pass(high_hz: float, rate: int) -> np.ndarray:
    return signal.firwin(round(_FILTER_S * rate) | 1, high_hz, window=("kaiser", 6.0), fs=rate)


def _weights(cut: PopCut) -> np.ndarray:
    size = cut.last - cut.first
    at = np.arange(size) + 0.5
    edge = max(1, min(cut.edge, size // 2))
    return 0.5 - 0.5 * np.cos(np.pi * np.clip(np.minimum(at, size - at) / edge, 0, 1))


def _voice(samples: np.ndarray, lows: np.ndarray, cut: PopCut, around: int) -> np.ndarray:
    """The voice's own partials among the lows, as long as ``samples``; zeros where it is not sung after the burst."""
    rate, size = cut.sample_rate, samples.shape[1]
    nothing = np.zeros_like(lows)
    hz = _pitch_track(samples.mean(axis=0), rate, size)
    after = slice(size - around + round(_FIT_S[0] * rate), min(size, size - around + round(_FIT_S[1] * rate)))
    if hz is None or not np.all(hz[after] > 0):
        return nothing
    voiced = hz > 0
    first = size - 1 - int(np.argmin(voiced[::-1])) if not voiced.all() else 0
    first = 0 if voiced[: after.start].all() else after.start - int(np.argmin(voiced[: after.start][::-1]))
    hz = np.where(np.arange(size) < first, hz[first], hz)
    phase = 2 * np.pi * np.cumsum(hz) / rate
    count = int((cut.high_hz + 60.0) / hz[after].mean())
    if count < 1:
        return nothing
    shape = _rise(samples.mean(axis=0), cut.high_hz, rate, after)
    basis = np.exp(1j * np.outer(np.arange(1, count + 1), phase))
    parts = np.concatenate([basis.real, basis.imag])
    voice = np.empty_like(lows)
    for i, channel in enumerate(lows):
        weights, *_ = np.linalg.lstsq(parts[:, after].T, channel[after], rcond=None)
        voice[i] = (weights @ parts) * shape
    return voice


def _pitch_track(mono: np.ndarray, rate: int, size: int) -> np.ndarray | None:
    """The pitch in Hz for each frame, 0 where there is none."""
    high = signal.butter(2, 130.0, "high", fs=rate, output="sos")  # under the burst it would be lost
    low = soxr.resample(signal.sosfiltfilt(high, mono), rate, pitch.RATE, "LQ").astype(np.float32)
    f0, strength = pitch.track_pitch(low)
    f0 = np.where(strength > _CLEAR_PITCH, f0, 0.0)
    if not f0.any():
        return None
    at = np.arange(size) / rate / pitch.HOP_S
    nearest = np.clip(np.round(at).astype(int), 0, len(f0) - 1)
    smooth = np.interp(at, np.flatnonzero(f0), f0[f0 > 0])
    return np.where(f0[nearest] > _LEAST_HZ, smooth, 0.0)


def _rise(mono: np.ndarray, high_hz: float, rate: int, after: slice) -> np.ndarray:
    """How loud the voice is against what it is after the burst, from its partials above the burst."""
    band = signal.butter(2, [1.6 * max(high_hz, 250.0), 1_600.0], "band", fs=rate, output="sos")
    level = np.sqrt(
        np.maximum(ndimage.uniform_filter1d(np.square(signal.sosfiltfilt(band, mono)), round(0.012 * rate)), 0)
    )
    return np.clip(level / (level[after].mean() + 1e-12), 0.0, _LOUDEST)


def _apply(at: At, mine: Sequence[PopCut]) -> np.ndarray:
    def burst(cut: PopCut) -> np.ndarray:
        around = reach(cut.sample_rate)
        key = cut.first, cut.last, cut.edge, cut.high_hz  # however much of it is taken out
        return at.keep(key, cut.first - around, cut.last + around, lambda: burst_of(at.read, cut))

    return apply(at.block(), at.start, [(cut, burst(cut)) for cut in mine])


STAGE = Stage(50, (PopCut,), _apply, reach=reach, spreads=True)
