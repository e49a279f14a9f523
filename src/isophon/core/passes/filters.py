"""Bells over a take, and over spans of it: minimum-phase filters, faded in and out.

What is cut in a word only is the difference that its filter makes, faded in before the word and out after it, so that
the cut is there when the word is (a look-ahead) and what lies outside stays as it is.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
import numpy as np
from scipy import fft

from isophon.core.audio.bell import FILTER_S, Bell, power_response, response_db, taps
from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.stage import At, Stage, Still
from isophon.core.survey import Survey


class BandFilter(msgspec.Struct, frozen=True):
    """Bells over the frames from ``first`` to ``last``, faded over ``edge`` frames; the whole take where that is 0."""

    first: int
    last: int
    bells: tuple[Bell, ...]
    edge: int = 0


def passing(at: At) -> Callable[[tuple[Bell, ...]], np.ndarray]:
    """What a stage is asked for, through bells.

    Parameters
    ----------
    at : the span.

    Returns
    -------
    A function of bells that gives float64 ``(channels, frames)``; as it is where there are no bells.
    """
    reach = round(FILTER_S * at.sample_rate)
    samples = at.read(at.start - reach, at.frames + reach)
    size = fft.next_fast_len(samples.shape[1] + reach, real=True)
    spectrum = fft.rfft(samples, size, axis=1)

    def through(bells: tuple[Bell, ...]) -> np.ndarray:
        if not bells:
            return samples[:, reach:].astype(np.float64)
        filtered = fft.irfft(spectrum * fft.rfft(taps(bells, at.sample_rate), size), size, axis=1)
        return filtered[:, reach : reach + at.frames]

    return through


def _apply(at: At, mine: Sequence[BandFilter]) -> np.ndarray:
    through = passing(at)
    everywhere = tuple(bell for cut in mine if not cut.edge for bell in cut.bells)
    base = through(everywhere)
    out = base
    for cut in mine:
        if cut.edge:
            out = out + _faded(cut, at.start, at.frames) * (through(everywhere + cut.bells) - base)
    return out.astype(np.float32)


def _faded(cut: BandFilter, start: int, frames: int) -> np.ndarray:
    """How much of a cut is there, 0 to 1, along a raised cosine at both ends, ``(frames,)``."""
    place = np.arange(start, start + frames)
    inside = np.clip(np.minimum(place - cut.first, cut.last - place) / cut.edge, 0, 1)
    return raised_cosine(inside)


def _still(still: Still, mine: Sequence[BandFilter]) -> None:
    for cut in mine:
        gain = 10 ** (response_db(cut.bells, still.centres) / 10)
        rate, hop = still.survey.sample_rate, still.survey.hop_s
        inside = (still.frames * hop * rate >= cut.first) & (still.frames * hop * rate <= cut.last)
        still.power[inside] *= gain


def _power(power: np.ndarray, survey: Survey, mine: Sequence[BandFilter]) -> None:
    """The K-weighted power of all frames with the bands cut."""
    centres = np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])
    for cut in mine:
        first, last = (int(np.clip(round(f / survey.sample_rate / survey.hop_s), 0, len(power))) for f in
                       (cut.first, cut.last))  # fmt: skip
        bands = survey.k_bands[first:last]
        total = bands.sum(axis=1) + 1e-30
        gain = np.ones(len(centres))
        for bell in cut.bells:
            gain *= power_response(bell, centres)
        power[first:last] *= (bands @ gain) / total


# before the gaps, so that a hole stays as silent as it was made
STAGE = Stage(
    "filters",
    (BandFilter,),
    _apply,
    ("hiss",),
    reach=lambda rate: round(FILTER_S * rate) + 1,
    fixed_blocks=True,
    still=_still,
    power=_power,
)
