"""Where a song repeats a passage: the places of a take that are most like it."""

from __future__ import annotations

from itertools import pairwise
from typing import NamedTuple

import numpy as np
from scipy import signal

from isophon.core.audio.shapes import between_samples
from isophon.core.passes import align
from isophon.core.survey import Survey

_LEAST_ALIKE = 0.35  # correlation over which a passage comes again
_MOST_PLACES = 8  # of which it is shown
_APART = 0.6  # of its length: places are not closer
_FINE_S = 0.005  # s: step in which the place is then found
_NEAR_S = 0.06  # s to either side that are looked through for it
_PIECES, _SURE = 8, 4.0  # as many times its standard error is a slope sure


class Place(NamedTuple):
    """A second at which the passage comes again, how alike that is, 0 to 1, and how much later its end lies, s.

    ``drift_s``: later than where it would lie at the passage's own tempo, under 0: earlier; 0 where its pieces are only
    as early and late as people sing.
    """

    at: float
    alike: float
    drift_s: float = 0.0


def places(survey: Survey, start: float, end: float) -> list[Place]:
    """Where what lies from ``start`` to ``end`` s comes again, the most alike first; the passage itself is none.

    The distance of both, as :mod:`isophon.core.passes.align` hears takes, against what is usual for
    this take; exact to some ms by what is heard every 5 ms.
    """
    sounds = align.sounds_of(survey, align.STEP_S)
    first, last = round(start / sounds.step_s), round(end / sounds.step_s)
    passage = sounds.values[first:last]
    if len(passage) < 10 or len(sounds.values) < 2 * len(passage):
        return []
    distance = _distances(sounds.values, passage)
    usual = float(np.median(distance))
    alike = 1 - distance / max(usual, 1e-9)
    peaks, _ = signal.find_peaks(np.pad(alike, 1), height=_LEAST_ALIKE, distance=max(1, round(_APART * len(passage))))
    found = [int(p) - 1 for p in peaks if abs(int(p) - 1 - first) > _APART * len(passage)]
    best = sorted(found, key=lambda k: -alike[k])[:_MOST_PLACES]
    fine = align.sounds_of(survey, _FINE_S)
    result = []
    for k in best:
        exact = _exactly(fine, start, end, k * sounds.step_s)
        drift = _drift(fine, start, end, exact)
        result.append(Place(round(exact, 4), round(float(alike[k]), 3), round(drift, 4)))
    return result


def _drift(sounds: align.Sounds, start: float, end: float, at: float) -> float:
    """How much more the passage's end is late than its start, s: a line through the lags of its pieces."""
    edges = np.linspace(start, end, _PIECES + 1)
    lags = [_exactly(sounds, a, b, at + a - start) - (at + a - start) for a, b in pairwise(edges)]
    (slope, _), covariance = np.polyfit(edges[:-1] - start, lags, 1, cov=True)
    return float(slope * (end - start)) if abs(slope) > _SURE * np.sqrt(covariance[0, 0]) else 0.0


def _distances(values: np.ndarray, passage: np.ndarray) -> np.ndarray:
    """The root mean square distance of the passage to what begins at each frame."""
    count = len(passage)
    power = np.concatenate([[0.0], np.cumsum(np.square(values).sum(axis=1))])
    cross = sum(signal.fftconvolve(values[:, i], passage[::-1, i], "valid") for i in range(values.shape[1]))
    square = power[count:] - power[:-count] + np.square(passage).sum() - 2 * cross
    return np.sqrt(np.maximum(0.0, square) / count)


def _exactly(sounds: align.Sounds, start: float, end: float, at: float) -> float:
    """The same place between the steps, by the lag at which both are most alike."""
    times = np.arange(start, end, sounds.step_s)
    mine = sounds.at(times)
    lags = np.arange(-round(_NEAR_S / _FINE_S), round(_NEAR_S / _FINE_S) + 1) * _FINE_S
    distances = np.array([np.linalg.norm(sounds.at(times - start + at + lag) - mine, axis=1).mean() for lag in lags])
    best = int(np.argmin(distances))
    exact = float(lags[best])
    if 0 < best < len(lags) - 1:
        exact += between_samples(*distances[best - 1 : best + 2]) * _FINE_S
    return at + exact
