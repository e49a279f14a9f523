"""How the noise of a take changes, followed through its pauses.

The noise is read where nothing else sounds: in each pause the lower quartile of short powers in a few bands, as order
statistics of a gamma distribution tell it from a steady noise (of which a periodogram's bins are exponentially
distributed, Martin 2001, IEEE Trans. Speech and Audio Processing 9, section III; from memory), against the noise of
the whole take. A quartile holds where a minimum would need a correction for how long it was looked for. Between pauses
the level goes on in a straight line in dB. Where the noise stays the same nothing is followed.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise
from typing import Annotated

import msgspec
import numpy as np
from scipy import ndimage, signal, stats

from isophon.core.passes.stage import Read
from isophon.core.ranges import Level, Seconds

EDGES_HZ = (100.0, 400.0, 1_200.0, 3_000.0, 6_000.0, 10_000.0, 96_000.0)  # Hz: the bands whose noise is followed
_BANDS = len(EDGES_HZ) - 1  # how many these are
_WINDOW_S = 0.043  # s: length of a window
_STEP_S = 0.4  # s: a pause is measured in pieces of about this length
_LEAST_WINDOWS = 4  # windows whose quartile is trusted
_QUARTILE = 0.25  # of the powers that is compared
_STEP_DB = 3.0  # dB: a larger change between two moments is looked for as a jump
_STILLEST_DB = 1.0  # dB: moments so close to the quietest fifth are where the usual noise was read
_CHANGES_DB = 2.0  # dB between the loudest and the softest tenth, under which the noise is steady
_LEAST_MOMENTS = 3  # moments of which a change is believed
_ALONG_S = 15.0  # s: moments nearer than that are averaged
_ALIKE_DB = 2.0  # dB: where they are about as loud, so that steps stay
_LOWEST_DB = -15.0  # dB: noise is never taken for less
_HIGHEST_DB = 24.0  # dB: nor for more
_SILENT = 1e-13  # of a bin's mean square: a gap that was cut to digital silence tells nothing
_MOST_MOMENTS = 2_000  # in a track
_AT_ONCE_S = 20.0  # s of a take read at once

Moment = tuple[Seconds, Annotated[tuple[Level, ...], msgspec.Meta(min_length=_BANDS, max_length=_BANDS)]]
Track = Annotated[tuple[Moment, ...], msgspec.Meta(max_length=_MOST_MOMENTS)]


def track_of(
    read: Read, rate: int, pauses: Iterable[tuple[float, float]], noise: tuple[np.ndarray, np.ndarray]
) -> Track:
    """How far the noise lies over that of the complete take, from moment to moment.

    Parameters
    ----------
    read : reads the take without its hum.
    rate : Hz.
    pauses : (start, end) in s, in which nothing is sung.
    noise : as :func:`isophon.core.passes.noise floor.still_density` gives it.

    Returns
    -------
    Moments in s, each with dB in each band; empty where the noise is steady.
    """
    bands = _BandLevels.against(noise, read, rate)
    moments = []
    for start, end in (moment for pause in pauses for moment in _moments(*pause)):
        powers = bands.powers(start, end)
        if len(powers) >= _LEAST_WINDOWS and powers.mean() > _SILENT:
            moments.append(((start + end) / 2, bands.over_usual(powers)))
    if len(moments) < _LEAST_MOMENTS:
        return ()
    moments = moments[:: -(-2 * len(moments) // _MOST_MOMENTS)]  # at most half of what fits: each step adds two
    seconds, over = np.array([at for at, _ in moments]), np.array([levels for _, levels in moments])
    over = _smoothed(seconds, ndimage.median_filter(over, size=(3, 1), mode="nearest"))
    overall = over[:, 1:].mean(axis=1)  # hum and rumble come and go without any hiss
    if np.percentile(overall, 90) - np.percentile(overall, 10) < _CHANGES_DB:
        return ()
    over -= over[overall <= np.percentile(overall, 20) + _STILLEST_DB].mean(axis=0)  # where the usual was read
    seconds, over = _with_steps(bands, seconds, np.clip(over, _LOWEST_DB, _HIGHEST_DB))
    track: list[tuple[float, tuple[float, ...]]] = []
    for at, levels in zip(seconds.round(3).tolist(), over.round(1).tolist(), strict=True):
        if not track or at > track[-1][0]:
            track.append((at, tuple(levels)))
    return tuple(track[:_MOST_MOMENTS])


def _smoothed(seconds: np.ndarray, over: np.ndarray) -> np.ndarray:
    """Levels ``(moments, bands)``, each the mean of those near in time that are nearly as loud, so that steps stay."""
    overall = over[:, 1:].mean(axis=1)
    apart = (seconds[:, None] - seconds) / _ALONG_S, (overall[:, None] - overall) / _ALIKE_DB
    weight = np.exp(-sum(np.square(one) for one in apart))
    return (weight @ over) / weight.sum(axis=1, keepdims=True)


def levels_at(track: Track, seconds: np.ndarray, hz: np.ndarray) -> np.ndarray:
    """How far the noise lies over that of the complete take.

    Parameters
    ----------
    track : see :func:`track_of`.
    seconds : ``(moments,)``, s.
    hz : ``(frequencies,)``, Hz.

    Returns
    -------
    ``(moments, frequencies)``, dB.
    """
    at = np.array([moment for moment, _ in track])
    rows = np.array([levels for _, levels in track])
    in_time = np.stack([np.interp(seconds, at, rows[:, band]) for band in range(_BANDS)], axis=1)
    centres = np.log([np.sqrt(low * min(high, 20_000.0)) for low, high in pairwise(EDGES_HZ)])
    place = np.clip(np.interp(np.log(np.maximum(hz, 1.0)), centres, np.arange(_BANDS)), 0, _BANDS - 1)
    lower = np.minimum(place.astype(int), _BANDS - 2)
    share = place - lower
    return in_time[:, lower] * (1 - share) + in_time[:, lower + 1] * share


def _moments(start: float, end: float) -> Iterable[tuple[float, float]]:
    """A pause in pieces of about 0.4 s."""
    count = max(1, round((end - start) / _STEP_S))
    edges = np.linspace(start, end, count + 1)
    return zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True)


@dataclass(frozen=True, eq=False)
class _BandLevels:
    """A take by short windows in a few bands: ``bins`` of each, and the ``usual`` noise there as these have it."""

    read: Read
    rate: int
    size: int
    bins: list[np.ndarray]
    usual: np.ndarray

    @classmethod
    def against(cls, noise: tuple[np.ndarray, np.ndarray], read: Read, rate: int) -> _BandLevels:
        """The levels of a take against its noise, a density as :func:`track_of` has it."""
        size = round(_WINDOW_S * rate) & ~1
        hz, (freqs, power) = np.fft.rfftfreq(size, 1 / rate), noise
        inside = [np.flatnonzero((hz >= low) & (hz < high)) for low, high in pairwise(EDGES_HZ)]
        last = max(i for i, bins in enumerate(inside) if len(bins) > 1)
        bins = [one if len(one) > 1 else inside[last] for one in inside]  # a low rate has no top: as the band below
        density = np.interp(hz, freqs, power / (freqs[1] - freqs[0])) * rate / size
        return cls(read, rate, size, bins, np.array([density[one].sum() for one in bins]))

    def powers(self, start: float, end: float) -> np.ndarray:
        """The power in each band of the windows of a span (s), ``(windows, bands)``."""
        first, count = round(start * self.rate), round((end - start) * self.rate)
        if count < self.size:
            return np.zeros((0, _BANDS))
        window = signal.get_window("hann", self.size)
        window /= np.sqrt(np.square(window).sum())
        rows = np.lib.stride_tricks.sliding_window_view(self.read(first, count), self.size, axis=1)
        spectra = np.fft.rfft(rows[:, :: self.size // 2] * window, axis=2)
        power = 2 * np.square(np.abs(spectra)).mean(axis=0) / self.size
        return np.stack([power[:, bins].sum(axis=1) for bins in self.bins], axis=1)

    def over_usual(self, powers: np.ndarray) -> np.ndarray:
        """How far the noise lies over the usual, dB ``(bands,)``: by the lower quartile of the powers.

        The power in a band of n bins is a gamma variable of shape about 2 n / 3 (a Hann window ties neighbours).
        """
        shapes = np.array([2 * len(bins) / 3 for bins in self.bins])
        expected = stats.gamma.ppf(_QUARTILE, shapes) / shapes
        return 10 * np.log10((np.quantile(powers, _QUARTILE, axis=0) / expected + 1e-20) / (self.usual + 1e-20))

    def lowest(self, start: float, end: float) -> tuple[np.ndarray, np.ndarray]:
        """The middles of the windows of a span, s, and how far each stands over the usual at least, dB, ``(n,)``."""
        times, levels = [], []
        for first in np.arange(start, end, _AT_ONCE_S).tolist():  # what lies between may be minutes long
            powers = self.powers(first, min(end, first + _AT_ONCE_S))[:, 1:]
            levels.append(10 * np.log10((powers + 1e-20) / (self.usual[1:] + 1e-20)).min(axis=1))
            times.append(first + (np.arange(len(powers)) + 1) * self.size / 2 / self.rate)
        return np.concatenate(times), np.concatenate(levels)


def _with_steps(bands: _BandLevels, seconds: np.ndarray, over: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The moments, with two more wherever the noise jumps between two: at the last, or first, that is still soft."""
    overall = over[:, 1:].mean(axis=1)
    times, rows = [seconds[:1]], [over[:1]]
    for i in range(1, len(seconds)):
        if abs(overall[i] - overall[i - 1]) > _STEP_DB:
            at, level = bands.lowest(seconds[i - 1], seconds[i])
            soft = at[level < (overall[i] + overall[i - 1]) / 2]
            if len(soft):
                step = soft[-1] if overall[i] > overall[i - 1] else soft[0]
                times.append(np.array([step, step + 0.01]))
                rows.append(over[i - 1 : i + 1])
        times.append(seconds[i : i + 1])
        rows.append(over[i : i + 1])
    return np.concatenate(times), np.concatenate(rows)
