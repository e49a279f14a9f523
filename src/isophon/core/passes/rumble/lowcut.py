"""The low cut: what it is set to, what it is proposed from, and how it is done.

Linear phase and centred, so that nothing is delayed and no partial is turned
against another: the magnitude of a Butterworth high-pass (Butterworth 1930).
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Annotated, Literal

import msgspec
import numpy as np
from scipy import fft, signal

from isophon.core.survey import VOICED, Survey

_LOWEST_NOTES_PERCENTILE = 3.0
_LOSS_DB = 0.5  # what the lowest notes may lose
_RANGE_HZ = (40.0, 150.0)
_FILTER_S = 0.4


class RumbleSettings(msgspec.Struct, frozen=True):
    """``on``; ``cut_hz``: the frequency that is 3 dB down, 0 for what the voice's lowest notes propose; ``slope``."""

    on: bool = True
    cut_hz: Annotated[float, msgspec.Meta(ge=0.0, le=400.0)] = 0.0
    slope: Literal[12, 24, 48] = 24


def role_default(role: str) -> RumbleSettings:
    """The settings that a part of a role starts with."""
    return RumbleSettings()


class LowCut(msgspec.Struct, frozen=True):
    """A low cut over frames ``first`` to ``last`` (the whole take), at ``sample_rate`` Hz."""

    first: int
    last: int
    cut_hz: float
    slope: int
    sample_rate: int


def lowest_note(survey: Survey) -> float | None:
    """The frequency in Hz under which hardly a note is sung; None without a voice."""
    f0 = survey.f0[(survey.state == VOICED) & (survey.f0 > 0)]
    return round(float(np.percentile(f0, _LOWEST_NOTES_PERCENTILE)), 1) if len(f0) >= 20 else None


def cut_of(settings: RumbleSettings, lowest_hz: float | None) -> float | None:
    """The frequency in force in Hz, None where nothing is cut: chosen, else so that the lowest notes lose 0.5 dB."""
    if not settings.on:
        return None
    if settings.cut_hz > 0:
        return settings.cut_hz
    if lowest_hz is None:
        return None
    order = settings.slope / 6
    ratio = (10 ** (_LOSS_DB / 10) - 1) ** (1 / (2 * order))
    low, high = _RANGE_HZ
    return float(round(min(high, max(low, lowest_hz * ratio))))


def loss_db(cut_hz: float, slope: int, hz: np.ndarray | float) -> np.ndarray | float:
    """What a low cut takes from frequencies, in dB ≥ 0."""
    return 10 * np.log10(1 + (cut_hz / np.maximum(hz, 1e-3)) ** (slope / 3))


def apply(read: Callable[[int, int], np.ndarray], start: int, frames: int, cut: LowCut) -> np.ndarray:
    """The take's frames from ``start`` on, cut; ``read`` gives it as it is, zeros outside. ``(channels, frames)``."""
    taps = _taps(cut.cut_hz, cut.slope, cut.sample_rate)
    reach = len(taps) // 2
    samples = read(start - reach, frames + 2 * reach)
    size = fft.next_fast_len(samples.shape[1], real=True)
    spectrum = fft.rfft(samples, size, axis=1) * fft.rfft(taps, size)
    return fft.irfft(spectrum, size, axis=1)[:, 2 * reach : 2 * reach + frames].astype(np.float32)


@lru_cache(maxsize=16)
def _taps(cut_hz: float, slope: int, sample_rate: int) -> np.ndarray:
    count = round(_FILTER_S * sample_rate) | 1
    size = fft.next_fast_len(8 * count, real=True)
    freqs = fft.rfftfreq(size, 1 / sample_rate)
    gain = 10 ** (-loss_db(cut_hz, slope, freqs) / 20)
    gain[0] = 0.0
    taps = np.roll(fft.irfft(gain, size), count // 2)[:count] * signal.get_window("hann", count, fftbins=False)
    return taps.astype(np.float32)
