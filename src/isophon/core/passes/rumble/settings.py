"""The settings of the low cut, and what they make of a part."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Literal

import msgspec
import numpy as np

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_LOSS_DB = 0.5  # what the lowest notes may lose
_LOWEST_CUT_HZ, _HIGHEST_CUT_HZ = 40.0, 150.0  # of what is proposed; common practice


class RumbleSettings(msgspec.Struct, frozen=True):
    """``on``; ``cut_hz``: the frequency that is 3 dB down, 0 for what the voice's lowest notes propose; ``slope``."""

    on: bool = True
    cut_hz: Annotated[float, msgspec.Meta(ge=0.0, le=400.0)] = 0.0
    slope: Literal[12, 24, 48] = 24


def role_default(_role: str) -> RumbleSettings:
    """The settings that a part of a role starts with."""
    return RumbleSettings()


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
    return float(round(min(_HIGHEST_CUT_HZ, max(_LOWEST_CUT_HZ, lowest_hz * ratio))))


def cut_in(part: Part) -> float | None:
    """The low cut in force for a part, Hz; None for none."""
    return cut_of(part.rumble, part.measured.lowest_hz)


def steady_db(part: Part, hz: np.ndarray) -> np.ndarray:
    """What the low cut in force does to a part.

    Parameters
    ----------
    part : a part.
    hz : ``(n,)``, Hz.

    Returns
    -------
    ``(n,)``, dB, at most 0.
    """
    cut_hz = cut_in(part)
    return np.zeros(len(hz)) if cut_hz is None else -loss_db(cut_hz, part.rumble.slope, hz)


def loss_db(cut_hz: float, slope: int, hz: np.ndarray | float) -> np.ndarray:
    """What a Butterworth low cut takes away.

    Parameters
    ----------
    cut_hz : where it takes 3 dB, Hz.
    slope : dB an octave, in multiples of 6.
    hz : Hz.

    Returns
    -------
    dB, at least 0, in the shape of ``hz``.
    """
    return 10 * np.log10(1 + (cut_hz / np.maximum(hz, 1e-3)) ** (slope / 3))
