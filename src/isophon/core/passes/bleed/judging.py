"""Which ridge a path needs, and how much the path then explains: cross-validation (Stone 1974).

The take is dealt out in turns of more than a second; a path learned from three quarters of them is judged by
the fourth, in which the stillest moments count most: a voice in unison with the feed looks like a path at its own
notes, and a note that never sounds without the voice tells nothing of the path.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy import fft

from isophon.core.audio.threads import at_once
from isophon.core.passes.bleed.equations import BLOCK, Moments, solved
from isophon.core.passes.bleed.filtering import filtered
from isophon.core.passes.bleed.preconditioner import Preconditioner
from isophon.core.passes.bleed.weighing import STEP

RIDGES = (1e-6, 1e-5, 1e-4, 1e-3, 1e-2, 0.1, 1.0)  # that are tried, of the cues' power
_FIRST = 3  # where the search begins
_FOLDS = 4  # in which the take is dealt out
_TURN = 4 * BLOCK  # frames in one turn
_FEWEST_TURNS = 16  # of which a short take has more and shorter ones
_CLEARLY_DB = 0.3  # dB that a path must explain in a band for all of it to be used
_UNTIL = 1e-4  # how far a path may be: nearer changes what it explains by some thousandths of a dB
_FLAT_DB = 0.02  # what begins to rise less than this does not come to rise by as much as pays
_FREER_DB, _FIRMER_DB = 0.03, 0.05  # dB more that a path must explain under a smaller ridge, or a larger one
_LOWEST_HZ = 90.0  # Hz: where the bands begin
_NARROWEST_HZ = 40.0  # Hz: they are not narrower
_WIDTH = 0.06  # of their frequency
_FILTER = 4_096  # taps of the filter that leaves the other bands out


@dataclass(frozen=True, eq=False)
class Judged:
    """``ridge_share``: the best ridge, of the cues' power; ``path``: the mean of those that were judged;
    ``explained_db``: how much of what it was not learned from it explains, in dB of the error, weighted twice, 0 or
    less where no path is better than none; ``bands_db``: the same in narrow bands; ``rise_db``: how much more ten
    times the ridge would explain if it went on as it begins.
    """

    ridge_share: float
    path: np.ndarray
    explained_db: float
    bands_db: np.ndarray
    rise_db: float


def judged(
    moments: Moments,
    weight: np.ndarray,
    preconditioner: Preconditioner,
    rate: int,
    guess: np.ndarray | None = None,
    tell: Callable[[], None] = lambda: None,
) -> Judged:
    """The ridge under which a path explains most, tried up or down from the usual one.

    Parameters
    ----------
    moments : of the take.
    weight : ``(steps,)``, what they were chosen by.
    preconditioner : of their equations.
    rate : Hz.
    guess : ``(cues, taps)``: a path like those that will be found.
    tell : is called between ridges.
    """
    folds = _Folds(moments, weight, preconditioner, rate, guess)
    best = folds.judged(RIDGES[_FIRST])
    better, others = (_FIRMER_DB, RIDGES[_FIRST + 1 :]) if best.rise_db > 0 else (_FREER_DB, RIDGES[_FIRST - 1 :: -1])
    for ridge_share in others:
        if abs(best.rise_db) < _FLAT_DB:
            break
        tell()
        other = folds.judged(ridge_share)
        if other.explained_db < best.explained_db + better:
            break
        best = other
    return best


def only_clear(samples: np.ndarray, gains_db: np.ndarray, rate: int) -> np.ndarray:
    """Sounds without the bands in which a path explains nothing, in place in time.

    Parameters
    ----------
    samples : ``(n, frames)``.
    gains_db : ``(bands,)``, what it explains in each, dB.
    rate : Hz.

    Returns
    -------
    float32 ``(n, frames)``.
    """
    hz = np.fft.rfftfreq(_FILTER, 1 / rate)
    mask = np.interp(hz, _middles(rate), np.clip(gains_db / _CLEARLY_DB, 0, 1))
    taps = np.roll(np.fft.irfft(mask), _FILTER // 2) * np.hanning(_FILTER)
    out = np.empty(samples.shape, np.float32)
    for row, sound in zip(out, samples, strict=True):
        row[:] = filtered(sound, taps[1:], _FILTER // 2 - 1)
    return out


def _edges(rate: int) -> np.ndarray:
    """The edges of the bands in Hz: narrow enough to tell one sung note from the next."""
    edges = [_LOWEST_HZ]
    while edges[-1] < rate / 2:
        edges.append(edges[-1] + max(_NARROWEST_HZ, edges[-1] * _WIDTH))
    return np.array(edges)


def _middles(rate: int) -> np.ndarray:
    edges = _edges(rate)
    return (edges[1:] + edges[:-1]) / 2


class _Folds:
    """The moments of a take dealt out."""

    def __init__(self, moments: Moments, weight: np.ndarray, preconditioner: Preconditioner, rate: int,
                 guess: np.ndarray | None) -> None:  # fmt: skip
        self._moments, self._preconditioner = moments, preconditioner
        used = STEP * np.cumsum(weight > 0)  # a fold holds as much of what is learned from, however short
        used //= min(_TURN, used[-1] // _FEWEST_TURNS + 1)
        self._fold = (used % _FOLDS).astype(np.int8)
        self._paths: list[np.ndarray | None] = [guess] * _FOLDS
        edges = _edges(rate) * self._moments.size / rate
        self._spans = [slice(int(a), max(int(a) + 1, int(b))) for a, b in pairwise(edges)]
        self._before = np.array([_power(m.weight * m.take, m.size) for m in map(self._asked, range(_FOLDS))])

    def _asked(self, k: int) -> Moments:
        return self._moments.only(self._fold == k)

    def judged(self, ridge_share: float) -> Judged:
        """What paths explain under a ridge of that share of the cues' power."""
        self._preconditioner.at(ridge_share)  # once, before the folds share it

        def after(k: int) -> tuple[np.ndarray, np.ndarray, float, float]:
            path = solved(
                self._moments.only(self._fold != k), self._preconditioner, ridge_share, None, _UNTIL, self._paths[k]
            )
            asked = self._asked(k)
            error = asked.weight * (asked.take - asked.through(path))
            pulled = asked.weight * asked.through(
                self._preconditioner.apply(ridge_share * self._preconditioner.unlikely * path, ridge_share)
            )
            return path, _power(error, asked.size), float(np.vdot(error, error)), 2 * float(np.vdot(error, pulled))

        found = at_once(after, range(_FOLDS))
        self._paths = [row[0] for row in found]
        left = np.array([row[1] for row in found])
        each = np.sort(_gain_db(self._before.sum(axis=1), left.sum(axis=1)))
        explained = _gain_db(self._before.sum(), left.sum())
        bands = [_gain_db(self._before[:, span].sum(), left[:, span].sum()) for span in self._spans]
        error, slope = (sum(row[i] for row in found) for i in (2, 3))  # slope: over the logarithm of the ridge
        return Judged(
            ridge_share, np.mean([row[0] for row in found], axis=0), float(min(explained, each[1])), np.array(bands),
            -10 * slope / (error + 1e-30),
        )  # fmt: skip


def _gain_db(before: np.ndarray, after: np.ndarray) -> np.ndarray:
    return 10 * np.log10((before + 1e-30) / (after + 1e-30))


def _power(blocks: np.ndarray, size: int) -> np.ndarray:
    spectrum = fft.rfft(blocks, size, axis=1)
    return (np.square(spectrum.real) + np.square(spectrum.imag)).sum(axis=0, dtype=np.float64)
