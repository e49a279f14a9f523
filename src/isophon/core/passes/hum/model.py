"""What a take's hum is: the mains' phase over time and the slowly changing harmonics on it; and its subtraction."""

from __future__ import annotations

from functools import lru_cache
from math import ceil
from typing import Annotated

import msgspec
import numpy as np

from isophon.core.ranges import Hertz, Level, Sides


class HumSettings(msgspec.Struct, frozen=True):
    """``on``: subtract the hum that was found; ``top_hz``: partials above are left."""

    on: bool = True
    top_hz: Annotated[float, msgspec.Meta(ge=60.0, le=6_000.0)] = 6_000.0


def role_default(role: str) -> HumSettings:
    """The settings that a part of a role starts with."""
    return HumSettings()


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
    both go straight.
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


class HumCut(msgspec.Struct, frozen=True):
    """Subtraction of the partials up to ``top_hz`` over frames ``first`` to ``last`` (the whole take)."""

    first: int
    last: int
    hum: Hum
    top_hz: float


def apply(block: np.ndarray, start: int, cut: HumCut) -> np.ndarray:
    """``block`` (the take's frames from ``start`` on, ``(channels, n)``) without the hum, float32."""
    return block - hum_of(cut.hum, start, block.shape[1], cut.top_hz)


def hum_of(hum: Hum, start: int, frames: int, top_hz: float = np.inf, every: float = 1.0) -> np.ndarray:
    """The hum itself from frame ``start`` on, float32 ``(channels, frames)``.

    ``every``: only every so many frames, for a take at a lower rate; ``start`` then counts at that rate.
    """
    chosen = [i for i, partial in enumerate(hum.partials) if partial.freq_hz <= top_hz]
    out = np.zeros((hum.channels, frames), np.float32)
    if not chosen:
        return out
    phases, amplitudes = _arrays(hum)
    last_knot, step = len(phases) - 2, hum.step / every
    at = start
    while at < start + frames:
        knot = int(np.clip(at // step, 0, last_knot))
        until = start + frames if knot == last_knot else min(start + frames, max(at + 1, ceil((knot + 1) * step)))
        along = (np.arange(at, until) - knot * step) / step
        cycles = phases[knot] + along * (phases[knot + 1] - phases[knot])
        turning = np.exp(2j * np.pi * (cycles % 1.0)).astype(np.complex64)
        powers = _powers(turning, [hum.partials[i].number for i in chosen])
        here, there = amplitudes[:, knot, chosen], amplitudes[:, knot + 1, chosen]
        # the real part of a complex product, by real products alone
        along = np.clip(along, 0.0, 1.0).astype(np.float32)
        cosines, sines = powers.real.copy(), powers.imag.copy()
        begin = here.real @ cosines - here.imag @ sines
        slope = (there - here).real @ cosines - (there - here).imag @ sines
        out[:, at - start : until - start] = begin + slope * along
        at = until
    return out


def _powers(turning: np.ndarray, numbers: list[int]) -> np.ndarray:
    """``turning`` to each of ascending powers, complex64 ``(numbers, n)``."""
    steps = {1: turning}
    result = np.empty((len(numbers), len(turning)), np.complex64)
    value, reached = np.ones_like(turning), 0
    for i, number in enumerate(numbers):
        gap = number - reached
        if gap not in steps:
            steps[gap] = turning**gap
        value = value * steps[gap]
        result[i], reached = value, number
    return result


@lru_cache(maxsize=32)
def _arrays(hum: Hum) -> tuple[np.ndarray, np.ndarray]:
    phases = np.frombuffer(hum.phases, np.float64)
    shape = (hum.channels, len(phases), len(hum.partials))
    return phases, np.frombuffer(hum.amplitudes, np.complex64).reshape(shape)
