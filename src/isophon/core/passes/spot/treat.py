"""Boxes in time and frequency turned down or up.

The band is cut out by a linear-phase filter with steep sides (Kaiser 1974, 70 dB), scaled, faded in before the box and
out after it along a raised cosine, and added: inside the box the change is what was asked for, outside of the fades
every sample is as it was. A curve over frequency inside the box is a filter of its own (frequency sampling).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import signal

from isophon.core.audio.shapes import raised_cosine
from isophon.core.passes.spot.mark import SpotMark
from isophon.core.passes.spot.settings import band_of
from isophon.core.passes.stage import At, Stage
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_SIDE_DB = 70.0  # dB: what is outside of the box's sides is that far down
_SIDE = 2 ** (1 / 3) - 1  # of a frequency: a third of an octave away nothing is changed
_LEAST_SIDE_HZ = 30.0  # Hz: no side is steeper
_LONGEST_S = 0.2  # s: no filter is longer
_CURVE_S = 0.05  # s: one with a curve is not shorter, so that it follows the curve
Curve = tuple[tuple[float, float], ...]


class SpotCut(msgspec.Struct, frozen=True):
    """A box from ``first`` to ``last`` with its fades of ``edges`` frames inside these, changed by ``gain_db``.

    ``low_hz`` and ``high_hz``: its band, both 0 for all of it. ``curve``: (Hz, dB) added inside the box.
    """

    first: int
    last: int
    edges: tuple[int, int]
    low_hz: float
    high_hz: float
    gain_db: float
    curve: Curve = ()


def treatments(part: Part) -> Iterator[SpotCut]:
    """What is done to a part."""
    rate, frames = part.source.sample_rate, part.source.frames
    for mark in part.of(SpotMark):
        change, curve = part.change(mark), () if mark.hand.leave else mark.hand.curve
        if len(mark.hand.outline) > 2 or (abs(change) < 0.05 and not curve):
            continue
        start, end = mark.span
        low, high = band_of(mark) or (0.0, 0.0)
        if low < 0.49 * rate:
            edges = mark.edges((part.spot.edge_ms, part.spot.edge_ms), rate)
            first, last = round(start * rate) - edges[0], round(end * rate) + edges[1]
            yield SpotCut(max(0, first), min(frames, last), edges, low, min(high, 0.5 * rate), round(change, 3), curve)


def _apply(at: At, mine: Sequence[SpotCut]) -> np.ndarray:
    reach = _reach(at.sample_rate)
    samples = at.read(at.start - reach, at.frames + 2 * reach)
    out = samples[:, reach : reach + at.frames].astype(np.float64)
    plain = out.copy()
    for cut in mine:
        # only what the box needs is filtered
        begin, stop, here = at.within(cut)
        shape = _faded(cut, begin, stop - begin)
        if cut.high_hz <= cut.low_hz and not cut.curve:
            out[:, here] += shape * (10 ** (cut.gain_db / 20) - 1) * plain[:, here]
            continue
        taps = _taps(cut.low_hz, cut.high_hz, cut.gain_db, cut.curve, at.sample_rate)
        half = len(taps) // 2
        around = samples[:, here.start + reach - half : here.stop + reach + half]
        out[:, here] += shape * signal.oaconvolve(around.astype(np.float64), taps[None, :], "valid", axes=1)
    return out.astype(np.float32)


def _faded(cut: SpotCut, start: int, frames: int) -> np.ndarray:
    """How much of a change is there, 0 to 1, ``(frames,)``; all of it in the box."""
    place = np.arange(start, start + frames)
    inside = np.minimum((place - cut.first) / cut.edges[0], (cut.last - 1 - place) / cut.edges[1])
    return raised_cosine(np.clip(inside, 0, 1))


@lru_cache(maxsize=128)
def _taps(low_hz: float, high_hz: float, gain_db: float, curve: Curve, rate: int) -> np.ndarray:
    """The filter whose output is added: the box's band times what is to be added there; odd length, linear phase."""
    full_band, top = high_hz <= low_hz, 0.5 * rate
    low, high = (0.0, top) if full_band else (low_hz, high_hz)
    side = max(_LEAST_SIDE_HZ, _SIDE * (low or high) * 0.8)
    count, beta = signal.kaiserord(_SIDE_DB, side / top)
    count = min(round(_LONGEST_S * rate), max(count, round(_CURVE_S * rate) if curve else 1)) | 1
    if not curve:
        edges = [f for f in (low - side / 2, high + side / 2) if 0 < f < top]
        window = ("kaiser", beta)
        if not edges:
            band = np.zeros(count)
            band[count // 2] = 1.0
        elif len(edges) == 1:
            band = signal.firwin(count, edges[0], window=window, pass_zero=low - side / 2 <= 0, fs=rate)
        else:
            band = signal.firwin(count, edges, window=window, pass_zero=False, fs=rate)
        return band * (10 ** (gain_db / 20) - 1)
    hz = np.linspace(0, top, 2_049)
    points = sorted(curve)
    shape = np.interp(np.log(np.maximum(hz, 1)), np.log([max(1.0, p[0]) for p in points]), [p[1] for p in points])
    added = 10 ** ((gain_db + shape) / 20) - 1
    if not full_band:
        added *= np.clip((hz - (low - side)) / side, 0, 1) * np.clip((high + side - hz) / side, 0, 1)
    return signal.firwin2(count, hz, added, window=("kaiser", beta), fs=rate)


def _reach(rate: int) -> int:
    return round(_LONGEST_S * rate) // 2 + 2


def _power(power: np.ndarray, survey: Survey, mine: Sequence[SpotCut]) -> None:
    """The K-weighted power of all frames with the boxes changed."""
    centres = np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])
    for cut in mine:
        first, last = (int(np.clip(round(f / survey.sample_rate / survey.hop_s), 0, len(power))) for f in
                       (cut.first + cut.edges[0], cut.last - cut.edges[1]))  # fmt: skip
        inside = (centres >= cut.low_hz) & (centres <= cut.high_hz) if cut.high_hz > cut.low_hz else centres > 0
        bands = survey.k_bands[first:last]
        gain = np.where(inside, 10 ** (cut.gain_db / 10), 1.0)
        power[first:last] *= (bands @ gain) / (bands.sum(axis=1) + 1e-30)


STAGE = Stage("spot", (SpotCut,), _apply, ("air",), reach=_reach, power=_power, fixed_blocks=True)
