"""The weighted least-squares equations of a path, and how they are solved.

A path of some tens of milliseconds has thousands of taps, and the cue's spectrum falls by sixty decibels and more,
so that plain gradients need hundreds of steps. Conjugate gradients (Hestenes & Stiefel 1952) need a few when they
are preconditioned by a matrix that is nearly the right one (see :mod:`.preconditioner`).
"""

from __future__ import annotations

from collections.abc import Callable
from copy import copy

import numpy as np
from scipy import fft, signal

from isophon.core.audio.threads import at_once
from isophon.core.passes.bleed.feeds import Feeds
from isophon.core.passes.bleed.preconditioner import Preconditioner
from isophon.core.passes.bleed.weighing import STEP

BLOCK = 8_192  # frames of a take that are chosen or left together
_STEPS_OF_ONE = BLOCK // STEP
_ROWS = 24  # blocks at a time: what fits the cores' own memory
_STEPS = 24  # of the conjugate gradients at most
ROUGHLY, NEARLY = 1e-3, 1e-5  # how far a path may be, against what no path explains
_MOST_LEFT = 1e-4  # of what is explained, however little that is beside the voice
_CLEAREST = 1e-2  # of what is explained: what no path explains is taken for so much at least


class Moments:
    """The moments of a take in which the leak is clearest, ready for products with paths.

    ``take`` ``(n,)`` and ``feeds`` at one rate, both looked at under the feeds' whitener; ``weight`` ``(steps,)``;
    ``most``: how many blocks.
    """

    def __init__(self, take: np.ndarray, feeds: Feeds, weight: np.ndarray, taps: int, most: int) -> None:
        self.taps, self.size = taps, fft.next_fast_len(BLOCK + taps, real=True)
        weighed = weight * feeds.powers
        worth = np.add.reduceat(weighed, np.arange(0, len(weighed), _STEPS_OF_ONE)) * STEP
        self.chosen = np.sort(np.argsort(worth)[::-1][:most])
        self.power, self.weight = self._of_steps(feeds.powers), np.repeat(self._of_steps(weight), STEP, axis=1)
        self.take = np.empty((len(self.chosen), BLOCK), np.float32)
        self._all = np.empty((len(feeds.sounds), len(self.chosen), self.size // 2 + 1), np.complex64)
        self._mine: np.ndarray | None = None  # which of all are looked at

        def fill(some: slice) -> None:
            self.take[some] = _white_rows(take, feeds.flat, self.chosen[some], 0)
            for sound, spectra in zip(feeds.sounds, self._all, strict=True):
                spectra[some] = fft.rfft(_white_rows(sound, feeds.flat, self.chosen[some], taps), self.size, axis=1)

        at_once(fill, self._batches())
        self.scale = max(float(worth.sum()) / self.cues, 1e-30)

    @property
    def cues(self) -> int:
        """How many cues there are."""
        return len(self._all)

    def only(self, mask: np.ndarray) -> Moments:
        """The same moments as far as a mask over the complete take is true.

        Parameters
        ----------
        mask : bool ``(steps,)``.
        """
        chosen_steps = self._of_steps(mask)
        some = np.flatnonzero((self.weight[:, ::STEP] * chosen_steps).any(axis=1))
        some = some if len(some) else np.array([0])
        part = copy(self)
        part.chosen, part.power, part.take = self.chosen[some], self.power[some], self.take[some]
        part.weight = self.weight[some] * np.repeat(chosen_steps[some], STEP, axis=1)
        part._mine = some if self._mine is None else self._mine[some]
        part.scale = max(STEP * float(np.vdot(part.weight[:, ::STEP], part.power)) / part.cues, 1e-30)
        return part

    def _of_steps(self, values: np.ndarray) -> np.ndarray:
        """The values of each step of the take, of those of the chosen blocks: ``(blocks, steps)``."""
        return np.pad(values, (0, -len(values) % _STEPS_OF_ONE)).reshape(-1, _STEPS_OF_ONE)[self.chosen]

    def through(self, path: np.ndarray) -> np.ndarray:
        """The cues through their paths.

        Parameters
        ----------
        path : ``(cues, taps)``.

        Returns
        -------
        ``(blocks, BLOCK)``.
        """
        return np.concatenate(at_once(self._through(path), self._batches()))

    def pull(self, path: np.ndarray) -> np.ndarray:
        """The normal equations applied to a path.

        Parameters
        ----------
        path : ``(cues, taps)``.

        Returns
        -------
        ``(cues, taps)``.
        """
        through = self._through(path)
        return self._correlated(lambda some: self.weight[some] * through(some))

    def residual(self, path: np.ndarray | None) -> tuple[np.ndarray, float]:
        """The correlation of the cues with what a path leaves of the take, and the energy of what it leaves.

        Parameters
        ----------
        path : ``(cues, taps)``; None for no path.

        Returns
        -------
        ``(cues, taps)``, and the energy, weighted.
        """
        error = self.take if path is None else self.take - self.through(path)
        weighted = self.weight * error
        return self._correlated(lambda some: weighted[some]), float(np.vdot(weighted, error))

    def _batches(self) -> list[slice]:
        return [slice(at, at + _ROWS) for at in range(0, len(self.chosen), _ROWS)]

    def _spectra(self, some: slice) -> np.ndarray:
        return self._all[:, some if self._mine is None else self._mine[some]]

    def _through(self, path: np.ndarray) -> Callable[[slice], np.ndarray]:
        ways = fft.rfft(path.astype(np.float32), self.size, axis=1)

        def through(some: slice) -> np.ndarray:
            return fft.irfft(_added(self._spectra(some), ways), self.size, axis=1)[:, self.taps : self.taps + BLOCK]

        return through

    def _correlated(self, sound: Callable[[slice], np.ndarray]) -> np.ndarray:
        """The correlations of weighted blocks ``(blocks, frames)`` with the cues, ``(cues, taps)``."""

        def one(some: slice) -> np.ndarray:
            spectrum = fft.rfft(sound(some), self.size, axis=1)
            np.conj(spectrum, out=spectrum)
            return np.stack([np.einsum("bf,bf->f", cue, spectrum) for cue in self._spectra(some)])

        both = np.sum(at_once(one, self._batches()), axis=0, dtype=np.complex128)
        return fft.irfft(both, self.size, axis=1)[:, self.taps : 0 : -1]  # the cues begin so much before the blocks


def solved(
    moments: Moments,
    preconditioner: Preconditioner,
    ridge_share: float,
    start: np.ndarray | None = None,
    until: float = NEARLY,
    guess: np.ndarray | None = None,
) -> np.ndarray:
    """The path ``(cues, taps)`` of least weighted squares with a ridge, by preconditioned conjugate gradients.

    Parameters
    ----------
    moments
        The normal equations.
    preconditioner
        Made with weights like theirs.
    ridge_share
        The ridge, as a share of the cues' power.
    start
        The path that the ridge holds to, ``(cues, taps)``; None: nothing.
    until
        The share of the error at which it is exact enough.
    guess
        A path near the solution.
    """
    ridge = ridge_share * moments.scale * preconditioner.unlikely
    residual, rest = moments.residual(start)
    start = np.zeros((moments.cues, moments.taps)) if start is None else start
    change = np.zeros_like(start)
    direction = preconditioner.apply(residual, ridge_share)
    energy = float((residual * direction).sum())
    least, most = _CLEAREST * energy, _MOST_LEFT * energy
    if guess is not None:
        change = guess - start
        moved = moments.pull(change) + ridge * change
        rest += float((change * (moved - 2 * residual)).sum())
        residual = residual - moved
        direction = preconditioner.apply(residual, ridge_share)
        energy = float((residual * direction).sum())
    for _ in range(_STEPS):
        if energy <= min(until * max(rest, least), most):
            break
        moved = moments.pull(direction) + ridge * direction
        step = energy / float((direction * moved).sum())
        change += step * direction
        residual -= step * moved
        rest -= step * energy
        preconditioned = preconditioner.apply(residual, ridge_share)
        before, energy = energy, float((residual * preconditioned).sum())
        direction = preconditioned + energy / before * direction
    return start + change


def _added(cues: np.ndarray, ways: np.ndarray) -> np.ndarray:
    out = cues[0] * ways[0]
    for cue, way in zip(cues[1:], ways[1:], strict=True):
        out += cue * way
    return out


def _white_rows(sound: np.ndarray, flat: np.ndarray, blocks: np.ndarray, before: int) -> np.ndarray:
    """Blocks of a sound ``(n,)``, silence around it, whitened, with ``before`` frames more; ``(blocks, frames)``."""
    around = len(flat) // 2
    rows = np.zeros((len(blocks), before + BLOCK + 2 * around), np.float32)
    for row, first in zip(rows, blocks * BLOCK - before - around, strict=True):
        piece = sound[max(0, first) : max(0, first + len(row))]
        start = max(0, -first)
        row[start : start + len(piece)] = piece
    return signal.oaconvolve(rows, flat[None], "valid", axes=1)
