"""A pop's burst taken out: what the blow of air put there alone, without the voice's own partials.

The burst is separated from the voice by its covariance, see ``burst.py``. It begins within the mark; what is left of it
after the mark fades in again. Nothing above 500 Hz changes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np
import soxr
from scipy import signal

from isophon.core.audio import pitch
from isophon.core.audio.shapes import raised_cosine
from isophon.core.marks import GONE_DB
from isophon.core.passes.pop import burst
from isophon.core.passes.pop.mark import PopMark
from isophon.core.passes.stage import At, Read, Stage

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_LEAST_HZ = 60.0  # Hz: no pitch is lower
_CLEAR_PITCH = 0.35  # strength of a pitch that is believed


class PopCut(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last``: the burst up to ``high_hz`` scaled by ``gain`` within ``edges`` of so many frames.

    ``length``: of its mark, s; the fade after that may end sooner, where the next pop begins.
    """

    first: int
    last: int
    edges: tuple[int, int]
    gain: float
    high_hz: float
    sample_rate: int
    length: float


def treatments(part: Part) -> Iterator[PopCut]:
    """What is done to the pops of a part."""
    rate, frames = part.source.sample_rate, part.source.frames
    changed = sorted(part.changes_of(PopMark), key=lambda row: row[0].span)
    for i, (mark, change) in enumerate(changed):
        first, ends = (min(frames, max(0, round(t * rate))) for t in mark.span)
        if ends - first >= 2:
            after = round(changed[i + 1][0].span[0] * rate) if i + 1 < len(changed) else frames
            edges = mark.edges((part.pop.edge_ms, part.pop.edge_ms), rate)
            last = max(ends, min(frames, after, ends + edges[1]))
            gain = 0.0 if change <= GONE_DB else float(10 ** (change / 20))
            yield PopCut(first, last, edges, gain, mark.hand.high_hz or mark.high_hz, rate, (ends - first) / rate)


def reach(sample_rate: int) -> int:
    """How far around a mark its burst depends on the take, in frames."""
    return round((burst.AFTER_S + 0.02) * sample_rate)


def apply(block: np.ndarray, start: int, cuts: list[tuple[PopCut, np.ndarray]]) -> np.ndarray:
    """Scales bursts in a span of a take.

    Parameters
    ----------
    block : ``(channels, n)``, the take's frames from ``start`` on; it is not changed.
    start : frame.
    cuts : each with what :func:`burst_of` gives for it.
    """
    out = block.copy()
    for cut, alone in cuts:
        first, last = max(start, cut.first), min(start + block.shape[1], cut.last)
        if last > first:
            out[:, first - start : last - start] -= (1 - cut.gain) * alone[:, first - cut.first : last - cut.first]
    return out


def burst_of(read: Read, cut: PopCut) -> np.ndarray:
    """The burst alone between smooth edges.

    Parameters
    ----------
    read : reads the take.
    cut : its span.

    Returns
    -------
    float32 ``(channels, last - first)``.
    """
    rate = cut.sample_rate
    before = round(burst.BEFORE_S * rate)
    samples = read(cut.first - before, before + round((cut.length + burst.AFTER_S) * rate)).astype(np.float64)
    lows = soxr.resample(samples.T, rate, burst.RATE, "HQ").T
    alone = burst.burst_in(lows, _pitch_track(samples.mean(axis=0), rate, lows.shape[1]), cut.length, cut.high_hz)
    back = soxr.resample(alone.T, burst.RATE, rate, "HQ").T[:, before:]
    weights = _weights(cut)[: back.shape[1]]
    out = np.zeros((len(back), cut.last - cut.first), np.float32)
    out[:, : len(weights)] = back[:, : len(weights)] * weights
    return out


def _weights(cut: PopCut) -> np.ndarray:
    size = cut.last - cut.first
    at = np.arange(size) + 0.5
    first, last = (max(1, min(edge, size // 2)) for edge in cut.edges)
    return raised_cosine(np.clip(np.minimum(at / first, (size - at) / last), 0, 1))


def _pitch_track(mono: np.ndarray, rate: int, size: int) -> np.ndarray:
    """The pitch in Hz at ``size`` moments of ``burst.RATE``, 0 where there is none."""
    high = signal.butter(2, 130.0, "high", fs=rate, output="sos")  # under the burst it would be lost
    low = soxr.resample(signal.sosfiltfilt(high, mono), rate, pitch.RATE, "LQ").astype(np.float32)
    f0, strength = pitch.track_pitch(low)
    f0 = np.where(strength > _CLEAR_PITCH, f0, 0.0)
    if not f0.any():
        return np.zeros(size)
    at = np.arange(size) / burst.RATE / pitch.HOP_S
    nearest = np.clip(np.round(at).astype(int), 0, len(f0) - 1)
    smooth = np.interp(at, np.flatnonzero(f0), f0[f0 > 0])
    return np.where(f0[nearest] > _LEAST_HZ, smooth, 0.0)


def _apply(at: At, mine: Sequence[PopCut]) -> np.ndarray:
    def alone(cut: PopCut) -> np.ndarray:
        around = reach(cut.sample_rate)
        key = cut.first, cut.last, cut.edges, cut.high_hz, cut.length  # however much of it is taken out
        return at.keep(key, cut.first - around, cut.last + around, lambda: burst_of(at.read, cut))

    return apply(at.block(), at.start, [(cut, alone(cut)) for cut in mine])


STAGE = Stage("pop", (PopCut,), _apply, ("rumble",), reach=reach, whole_span=True, slow=True)
