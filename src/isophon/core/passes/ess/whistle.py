"""Whistled esses: a narrow peak inside the hiss, that a cut of its own takes down and the whole S need not.

The jet's edge tone stands as one line in the S's smooth spectrum (Shadle 1985). It is looked for in the mean spectrum
of the mark and must stay at its place through most of it: chance peaks of noise do not.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np
from msgspec.structs import replace
from scipy import ndimage

from isophon.core.audio.bell import Bell
from isophon.core.audio.spectra import frames_of, power_spectra
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.ess.settings import is_left
from isophon.core.passes.filters import BandFilter
from isophon.core.passes.stage import Read

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_WINDOW_S = 0.02  # s: length of a spectrum, the nearest power of two
_LOW_HZ = 3_500.0  # Hz: where a whistle may lie
_HIGH_HZ = 14_000.0  # Hz: its top
_AROUND_OCTAVES, _WIDEST = 0.35, 0.08  # of the frequency
_LEAST_DB = 13.0  # dB that it stands over the ess around it
_EACH_DB = 7.0  # dB that it stands over it in single frames
_MOST_OF_IT = 0.7  # share of the frames in which it does
_FEWEST_FRAMES = 4  # that tell one
_Q = 14.0  # of the bell that cuts it
_EDGE_S = 0.012  # s: how long that takes to come and go
_DEEPEST_DB = -18.0  # dB: the deepest cut
_LEAST_CUT_DB = 0.5  # dB: less is not cut
_WIDTH_DB = 6.0  # dB under its top, where its width is measured
_TOP = 0.45  # of the rate: nothing is looked for above


def with_whistle(read: Read, sample_rate: int, mark: EssMark) -> EssMark:
    """A mark with its whistle's frequency and how far that stands over the rest; unchanged where there is none."""
    size = 1 << round(np.log2(_WINDOW_S * sample_rate))
    first, last = round(mark.start * sample_rate), round(mark.end * sample_rate)
    starts = np.arange(first, last - size + 1, size // 2)
    if mark.voiced or len(starts) < _FEWEST_FRAMES:
        return mark
    samples = read(first, last - first).sum(axis=0)
    power = power_spectra(frames_of(samples, size, size // 2), np.hanning(size)) + 1e-18
    hz = np.fft.rfftfreq(size, 1 / sample_rate)
    inside = np.flatnonzero((hz > _LOW_HZ) & (hz < min(_HIGH_HZ, _TOP * sample_rate)))
    over = _over_around(10 * np.log10(power.mean(axis=0)), hz, inside)
    peak = int(np.argmax(over))
    at, stands = inside[peak], float(over[peak])
    if stands < _LEAST_DB:
        return mark
    wide = np.count_nonzero(over[np.abs(hz[inside] / hz[at] - 1) < 3 * _WIDEST] > stands - _WIDTH_DB) * (hz[1] - hz[0])
    each = [_over_around(10 * np.log10(frame), hz, inside)[max(0, peak - 1) : peak + 2].max() for frame in power]
    if wide > _WIDEST * hz[at] or np.mean(np.array(each) > _EACH_DB) < _MOST_OF_IT:
        return mark
    return replace(mark, whistle_hz=round(float(hz[at]), 1), whistle_db=round(stands, 1))


def _over_around(level: np.ndarray, hz: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """How far each line of a spectrum stands over the median of what is around it, dB."""
    around = max(5, round(np.sqrt(hz[inside[0]] * hz[inside[-1]]) * (2**_AROUND_OCTAVES - 1) * 2 / (hz[1] - hz[0]))) | 1
    return (level - ndimage.median_filter(level, around))[inside]


def treatments(part: Part) -> Iterator[BandFilter]:
    """What is done to a part: each whistle comes down to what is let through, and nothing beside it."""
    rate, frames = part.source.sample_rate, part.source.frames
    for mark in part.of(EssMark):
        if not mark.whistle_hz or mark.hand.leave or mark.whistle_hz > _TOP * rate:
            continue
        if mark.confidence < part.ess.sure or is_left(mark, part.ess):
            continue
        cut = max(_DEEPEST_DB, part.ess.whistle_over_db - mark.whistle_db)
        if cut < -_LEAST_CUT_DB:
            edge = round(_EDGE_S * rate)
            first, last = (round(t * rate) for t in mark.span)
            bell = Bell(mark.whistle_hz, _Q, round(cut, 1))
            yield BandFilter(max(0, first - edge), min(frames, last + edge), (bell,), edge)
