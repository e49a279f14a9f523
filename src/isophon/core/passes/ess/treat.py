"""Taming an ess: its own band is turned down for its own time, with smooth edges.

The band above the mark's lower edge is split off by a linear-phase filter of
zero delay, scaled by a gain that is 1 outside the mark, and put back. Inside, one
gain for the whole band and the whole mark keeps the sound's spectrum and its rise
and fall: a softer ess, not another consonant. Samples outside are not touched.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import fft

from isophon.core.audio.filters import linear_phase_band
from isophon.core.audio.shapes import raised_cosine
from isophon.core.marks import Mark
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.settings import EssSettings
from isophon.core.passes.stage import At, Read, Stage
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_TRANSITION = 0.3  # of the lower edge
_LOWEST_HZ = 700.0  # Hz: no band of an ess begins lower


class Span(msgspec.Struct, frozen=True):
    """Where a treatment works: frames ``start`` to ``stop``, ``low`` to ``high`` Hz (None: to the top)."""

    start: int
    stop: int
    low: float
    high: float | None


class EssCut(msgspec.Struct, frozen=True):
    """A span, the lengths of its edges in frames, half of each outside, and the gain inside it.

    ``shape``: (share of the span, dB) added to the gain along the span.
    """

    span: Span
    edges: tuple[int, int]
    gain: float
    shape: tuple[tuple[float, float], ...] = ()

    @property
    def first(self) -> int:
        """The first frame that changes."""
        return self.span.start - self.edges[0] // 2

    @property
    def last(self) -> int:
        """The frame after the last one that changes."""
        return self.span.stop + self.edges[1] // 2


def treatments(part: Part) -> Iterator[EssCut]:
    """What is done to the esses of a part, in order of time."""
    shaped = [(m, part.change(m)) for m in part.of(EssMark) if m.hand.shape and not m.hand.leave]
    others = [(m, change) for m, change in part.changes_of(EssMark) if not m.hand.shape]
    yield from cuts([*shaped, *others], part.ess, part.source.sample_rate)


def cuts(changed: Iterable[tuple[Mark, float]], settings: EssSettings, sample_rate: int) -> tuple[EssCut, ...]:
    """The cuts of marks with their changes in dB."""
    result, usual_ms = [], (settings.edge_ms, settings.edge_ms)
    usual = (max(2, round(settings.edge_ms / 1000 * sample_rate) & ~1),) * 2
    for mark, change in changed:
        start, end = mark.span
        low, high = mark.band
        top = 0.45 * sample_rate
        span = Span(
            round(start * sample_rate),
            max(round(start * sample_rate) + 2, round(end * sample_rate)),
            float(min(max(low, _LOWEST_HZ), top)),
            None if high is None or high >= top else high,
        )
        edges = usual if mark.hand.fades_ms is None else _even(mark.edges(usual_ms, sample_rate))
        result.append(EssCut(span, edges, float(10 ** (change / 20)), mark.hand.shape))
    return tuple(sorted(result, key=lambda t: t.first))


def _even(edges: tuple[int, int]) -> tuple[int, int]:
    """Edges of which each has two halves."""
    return max(2, edges[0] & ~1), max(2, edges[1] & ~1)


def reach(treatment: EssCut, sample_rate: int) -> int:
    """How many frames on either side of a treatment its band depends on."""
    return len(_taps(treatment, sample_rate)) // 2


def _taps(treatment: EssCut, sample_rate: int) -> np.ndarray:
    span = treatment.span
    return linear_phase_band(sample_rate, span.low, span.high, _TRANSITION * span.low)


def band_of(read: Read, treatment: EssCut, sample_rate: int) -> np.ndarray:
    """The band of a treatment's span, weighted by its smooth edges.

    The correction is ``(gain - 1)`` times this. It depends on the take and the span alone, so that any part of it
    can be rendered alone.

    Parameters
    ----------
    read : reads the take.
    treatment : the span and its band.
    sample_rate : Hz.

    Returns
    -------
    float32 ``(channels, last - first)``.
    """
    taps = _taps(treatment, sample_rate)
    reach = len(taps) // 2
    samples = read(treatment.first - reach, treatment.last - treatment.first + 2 * reach)
    size = fft.next_fast_len(samples.shape[1], real=True)
    spectrum = fft.rfft(samples, size, axis=1) * fft.rfft(taps.astype(np.float32), size)
    band = fft.irfft(spectrum, size, axis=1)[:, len(taps) - 1 : samples.shape[1]]
    return (band * _weights(treatment)).astype(np.float32)


def apply(block: np.ndarray, start: int, parts: Sequence[tuple[EssCut, np.ndarray]]) -> np.ndarray:
    """Puts corrections into a span of a take.

    Parameters
    ----------
    block : ``(channels, n)``, the take's frames from ``start`` on; it is not changed.
    start : frame.
    parts : treatments, each with what :func:`band_of` gives for it.
    """
    out = block.copy()
    for treatment, band in parts:
        first, last = max(start, treatment.first), min(start + block.shape[1], treatment.last)
        if last > first:
            piece = band[:, first - treatment.first : last - treatment.first]
            out[:, first - start : last - start] += _gain(treatment, first, last) * piece
    return out


def _gain(treatment: EssCut, first: int, last: int) -> np.ndarray | np.float32:
    """What a treatment adds to each frame of its band from ``first`` to ``last``, as a share of it."""
    if not treatment.shape:
        return np.float32(treatment.gain - 1)
    span = treatment.span
    share = (np.arange(first, last) - span.start) / (span.stop - span.start)
    db = np.interp(share, [p[0] for p in treatment.shape], [p[1] for p in treatment.shape])
    return (treatment.gain * 10 ** (db / 20) - 1).astype(np.float32)


def _weights(treatment: EssCut) -> np.ndarray:
    """0 outside, 1 inside, raised cosines centred on start and stop."""
    length = treatment.last - treatment.first
    first, last = (raised_cosine((np.arange(edge) + 0.5) / edge)
                   for edge in (min(edge, length // 2) for edge in treatment.edges))  # fmt: skip
    weights = np.ones(length)
    weights[: len(first)] = first
    weights[length - len(last) :] = last[::-1]
    return weights.astype(np.float32)


def _apply(at: At, mine: Sequence[EssCut]) -> np.ndarray:
    def band(cut: EssCut) -> np.ndarray:
        around = reach(cut, at.sample_rate)
        key = cut.span, cut.edges  # however much of it is taken out
        return at.keep(key, cut.first - around, cut.last + around, lambda: band_of(at.read, cut, at.sample_rate))

    return apply(at.block(), at.start, [(cut, band(cut)) for cut in mine])


def _power(power: np.ndarray, survey: Survey, mine: Sequence[EssCut]) -> None:
    rate = survey.sample_rate
    for cut in mine:
        frames = slice(survey.frame(cut.first / rate), survey.frame(cut.last / rate) + 1)
        inside = survey.band_slice(cut.span.low, cut.span.high or np.inf)
        power[frames] -= (1 - cut.gain**2) * survey.k_bands[frames, inside].sum(axis=1)


def _reach(rate: int) -> int:
    return len(linear_phase_band(rate, min(_LOWEST_HZ, 0.4 * rate), None, _TRANSITION * _LOWEST_HZ)) // 2


STAGE = Stage("ess", (EssCut,), _apply, ("fades",), reach=_reach, whole_span=True, power=_power)
