"""The settings of hiss, and what is known of a take's noise."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import msgspec
import numpy as np

from isophon.core.audio.loudness import db
from isophon.core.passes.noise_track import Track
from isophon.core.ranges import LONGEST_S

if TYPE_CHECKING:
    from isophon.core.session.model import Part

BANDS = 64  # equal widths from 0 to half the sample rate
SILENT_DB = -170.0  # dB: the level of a band in which there is no noise
Density = tuple[np.ndarray, np.ndarray]


class HissSettings(msgspec.Struct, frozen=True):
    """``on``; ``amount_db``: how far the noise comes down; ``from_hz``: what lies below is left alone.

    ``top_db``: how much top the voice gets back above ``from_hz``, esses aside.
    ``follow``: whether noise that changes is followed, where it is learned from the still moments. ``learn_from``,
    ``learn_to``: the span in s that the noise is learned from, both 0 for the still moments of the take.
    """

    on: bool = True
    amount_db: Annotated[float, msgspec.Meta(ge=-24.0, le=0.0)] = -6.0
    from_hz: Annotated[float, msgspec.Meta(ge=100.0, le=12_000.0)] = 5_000.0
    top_db: Annotated[float, msgspec.Meta(ge=0.0, le=6.0)] = 0.0
    follow: bool = True
    learn_from: Annotated[float, msgspec.Meta(ge=0.0, le=LONGEST_S)] = 0.0
    learn_to: Annotated[float, msgspec.Meta(ge=0.0, le=LONGEST_S)] = 0.0


def role_default(_role: str) -> HissSettings:
    """The settings that a part of a role starts with."""
    return HissSettings()


def noise_in(part: Part) -> tuple[float, ...]:
    """The noise in force for a part: of the span that a person chose, else of the still moments."""
    chosen = part.learned and part.hiss.learn_to > part.hiss.learn_from
    return part.learned if chosen else part.measured.noise


def track_in(part: Part) -> Track:
    """How the noise in force changes; () where it is taken for steady."""
    chosen = part.learned and part.hiss.learn_to > part.hiss.learn_from
    return () if chosen or not part.hiss.follow else part.measured.noise_track


def level_in(part: Part) -> float:
    """The level of a part's noise above the frequency from which it is turned down, dBFS."""
    rate, noise = part.source.sample_rate, noise_in(part)
    centres = (np.arange(len(noise)) + 0.5) * rate / 2 / BANDS
    power = 10 ** (np.array(noise) / 10) * rate / 2 / BANDS
    return round(db(float(power[centres >= part.hiss.from_hz].sum())), 1)


def noise_of(density: Density | None, sample_rate: int) -> tuple[float, ...]:
    """The noise in 64 bands of equal width, dBFS for 1 Hz; all −170 where nothing is known or all is silent.

    ``density``: frequencies in Hz and mean square for each bin.
    """
    if density is None:
        return (SILENT_DB,) * BANDS
    freqs, power = density
    width = freqs[1] - freqs[0]
    band = np.minimum((freqs / (sample_rate / 2) * BANDS).astype(int), BANDS - 1)
    # the median over a band's bins: a whistle or a rest of hum does not raise the noise around it
    levels = [db(float(np.median(power[band == i])) / width) for i in range(BANDS)]
    return tuple(round(max(SILENT_DB, level), 1) for level in levels)


def steady_db(part: Part, hz: np.ndarray) -> np.ndarray:
    """What is done to a part's noise.

    Parameters
    ----------
    part : a part.
    hz : ``(n,)``, Hz.

    Returns
    -------
    ``(n,)``, dB, at most 0.
    """
    if not (part.hiss.on and noise_in(part)):
        return np.zeros(len(hz))
    return part.hiss.amount_db * share_at(hz, part.hiss.from_hz)


def share_at(hz: np.ndarray, from_hz: float) -> np.ndarray:
    """How much of the reduction acts at frequencies: half at ``from_hz``, from 0 to 1 over two thirds of an octave.

    Parameters
    ----------
    hz : ``(n,)``, Hz.
    from_hz : Hz; at 100 and less all of it acts everywhere.

    Returns
    -------
    ``(n,)``, from 0 to 1.
    """
    octaves = np.log2(np.maximum(hz, 1.0) / from_hz)
    return np.clip(0.5 + 1.5 * octaves, 0.0, 1.0) if from_hz > 100 else np.ones_like(octaves)
