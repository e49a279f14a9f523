"""The hum of a take: the mains' phase over time and the slowly changing harmonics on it, and its sound."""

from __future__ import annotations

from functools import lru_cache
from math import ceil
from typing import Annotated

import msgspec
import numpy as np
from scipy.interpolate import CubicSpline

from isophon.core.ranges import Hertz, Level, Sides

_FASTEST_HZ = 100.0  # the mains turn 40 to 70 times a second
_LOUDEST = 1_000.0  # a partial's amplitude; full scale is 1
_SHORT = 256  # frames
_BITS = 8  # of a step; straight over 1/8 s a 24th partial is out by under 0.01 rad


class Partial(msgspec.Struct, frozen=True):
    """One harmonic: ``number``, mean ``freq_hz``, ``level_db`` in dBFS, and ``over_db`` over what is beside it."""

    number: Annotated[int, msgspec.Meta(ge=1, le=1_000)]
    freq_hz: Hertz
    level_db: Level
    over_db: Level


class Hum(msgspec.Struct, frozen=True):
    """The hum of a take.

    ``base_hz``: the mains' mean frequency, ``drift_hz``: how far it moves.
    Every ``step`` frames: ``phases``, float64 ``(knots,)``, cycles of the mains,
    and ``amplitudes``, complex64 ``(channels, knots, partials)``; between them
    amplitudes go straight and the phases are a spline (the mains drift smoothly).
    """

    base_hz: Annotated[float, msgspec.Meta(ge=40.0, le=70.0)]
    drift_hz: Hertz
    partials: Annotated[tuple[Partial, ...], msgspec.Meta(min_length=1, max_length=1_000)]
    step: Annotated[int, msgspec.Meta(ge=1_000, le=400_000)]
    channels: Sides
    phases: bytes
    amplitudes: bytes

    @property
    def level_db(self) -> float:
        """The level of all partials together, dBFS."""
        return float(10 * np.log10(sum(10 ** (p.level_db / 10) for p in self.partials)))


def hum_of(hum: Hum, start: int, frames: int, top_hz: float = np.inf, every: float = 1.0) -> np.ndarray:
    """The hum itself.

    Parameters
    ----------
    hum : a hum.
    start, frames : the span.
    top_hz : harmonics over this are left.
    every : only every so many frames, for a take at a lower rate; ``start`` then counts at that rate.

    Returns
    -------
    float32 ``(channels, frames)``.
    """
    chosen = [i for i, partial in enumerate(hum.partials) if partial.freq_hz <= top_hz]
    out = np.zeros((hum.channels, frames), np.float32)
    if not chosen:
        return out
    phases, amplitudes = _arrays(hum)
    step, bit = hum.step / every, hum.step / every / _BITS
    last_knot, last_bit = amplitudes.shape[1] - 2, len(phases) - 2
    end = (last_knot + 1) * step
    numbers = np.array([hum.partials[i].number for i in chosen])
    at, stop = start, start + frames
    while at < stop:
        piece = int(np.clip(at // bit, 0, last_bit))
        knot = piece // _BITS
        first, within = at - knot * step, at - piece * bit
        turn = (phases[piece + 1] - phases[piece]) / bit  # cycles of the mains a frame
        here, there = amplitudes[:, knot, chosen], amplitudes[:, knot + 1, chosen]
        if at < 0 or at >= end:  # beyond its ends it goes on as it was there
            until = min(stop, 0) if at < 0 else stop
            amplitude, slope = (here if at < 0 else there), np.zeros_like(here)
        else:
            until = min(stop, max(at + 1, ceil((piece + 1) * bit)))
            slope = (there - here) / step
            amplitude = here + slope * first
        out[:, at - start : until - start] = _sines(
            numbers, phases[piece] + within * turn, turn, until - at, amplitude, slope
        )
        at = until
    return out


def _sines(
    numbers: np.ndarray, phase: float, turn: float, frames: int, amplitude: np.ndarray, slope: np.ndarray
) -> np.ndarray:
    """Partials of steady frequencies whose amplitudes ``(channels, partials)`` go straight, ``(channels, frames)``.

    A long sine is a few short ones, each turned to where it begins: products of small matrices instead of a sine a
    sample. ``phase`` and ``turn``: cycles of the mains at the first frame, and a frame.
    """
    rows = -(-frames // _SHORT)
    starts, within = np.arange(rows) * _SHORT, np.arange(_SHORT)
    begins = np.exp(2j * np.pi * ((phase + starts * turn)[:, None] * numbers % 1.0))
    turning = np.exp(2j * np.pi * (np.outer(numbers, within * turn) % 1.0)).astype(np.complex64)
    climbing = turning * within.astype(np.float32)
    out = np.empty((len(amplitude), frames), np.float32)
    for channel, (level, climb) in enumerate(zip(amplitude, slope, strict=True)):
        row = ((level + climb * starts[:, None]) * begins).astype(np.complex64)
        more = (climb * begins).astype(np.complex64)
        out[channel] = (row @ turning + more @ climbing).real.reshape(-1)[:frames]
    return out


@lru_cache(maxsize=32)
def _arrays(hum: Hum) -> tuple[np.ndarray, np.ndarray]:
    """Phases, so many ``_BITS`` a step, between which they go straight, and amplitudes of each step."""
    phases = np.frombuffer(hum.phases, np.float64)
    shape = (hum.channels, len(phases), len(hum.partials))
    fine = CubicSpline(np.arange(len(phases)), phases)(np.arange(_BITS * (len(phases) - 1) + 1) / _BITS)
    return fine, np.frombuffer(hum.amplitudes, np.complex64).reshape(shape)


def flaw_of(hum: Hum | None, sample_rate: int, channels: int, frames: int) -> str:
    """What is wrong with a hum that a file tells of a take of that shape, as ``field: what``; '' where nothing is."""
    if hum is None:
        return ""
    if hum.channels != channels:
        return "channels: are not those of the recording"
    numbers = [partial.number for partial in hum.partials]
    if sorted(set(numbers)) != numbers:
        return "partials: do not go up"
    knots = len(hum.phases) // 8
    if len(hum.phases) % 8 or not 2 <= knots <= frames // hum.step + 4:
        return "phases: do not fit the take"
    if len(hum.amplitudes) != 8 * hum.channels * knots * len(numbers):
        return "amplitudes: do not fit the partials"
    phases, amplitudes = np.frombuffer(hum.phases, np.float64), np.frombuffer(hum.amplitudes, np.complex64)
    turned = np.abs(np.diff(phases)) < _FASTEST_HZ * hum.step / sample_rate
    if not (np.isfinite(phases).all() and turned.all()):
        return "phases: are not those of the mains"
    if not (np.isfinite(amplitudes).all() and np.abs(amplitudes).max() < _LOUDEST):
        return "amplitudes: are no levels"
    return ""
