"""The preconditioner of a path's normal equations: the inverse of a matrix that is nearly theirs.

The matrix is the sum of the cues' short-time correlations (of some milliseconds each), weighted, with the weights
interpolated linearly in between. It is inverted once (Cholesky; two cues that share sound by the Schur complement of
the first one's block) and serves all weights like those it was made with.
"""

from __future__ import annotations

from itertools import product

import numpy as np
from scipy import fft, linalg

from isophon.core.audio.threads import at_once
from isophon.core.passes.bleed.weighing import STEP

_HOP_S = 0.008  # s: over which short-time correlations are taken
_BATCH = 128  # of these at once
_SQUARE = 256  # columns of a matrix that are filled at once
_COLUMNS = 512  # of the Schur complement at once
_MOST_HOPS = 4_000  # as many as tell the cues' correlations well enough
_FIRMER = 10.0  # times as firm a ridge where a matrix is not positive definite
_MOST_FIRM = 4  # times that this is tried


class Preconditioner:
    """Approximate inverse of the normal equations of cues under weights like those given.

    Parameters
    ----------
    cues
        ``(cues, n)``. Cues that follow each other two by two, such as the sides of a stereo one, may share sound.
    weight
        One weight for every ``STEP`` frames, ``(steps,)``.
    unlikely
        The ridge of each tap, relative to the others, ``(taps,)``.
    rate
        Hz.
    """

    def __init__(self, cues: np.ndarray, weight: np.ndarray, unlikely: np.ndarray, rate: int) -> None:
        self.unlikely = unlikely
        grams = [_grams(cues[first : first + 2], weight, len(unlikely), rate) for first in range(0, len(cues), 2)]
        own = [gram for pair in grams for gram in pair[:2]]
        scale = np.float32(max(sum(float(np.trace(gram)) for gram in own) / len(own) / len(unlikely), 1e-30))
        for gram in (gram for pair in grams for gram in pair):
            gram /= scale
        self._grams = grams
        self._ridge_share, self._inverses = -1.0, list[list[np.ndarray]]()  # of the last ridge: they are large

    def at(self, ridge_share: float) -> list[list[np.ndarray]]:
        """The inverse matrices of each two cues with a ridge.

        Parameters
        ----------
        ridge_share : of the cues' power.
        """
        if ridge_share != self._ridge_share:
            self._ridge_share, self._inverses = ridge_share, []
            self._inverses = [_inverses(grams, ridge_share * self.unlikely) for grams in self._grams]
        return self._inverses

    def apply(self, residual: np.ndarray, ridge_share: float) -> np.ndarray:
        """A residual through those matrices.

        Parameters
        ----------
        residual : ``(cues, taps)``.
        ridge_share : of the cues' power.

        Returns
        -------
        float32 ``(cues, taps)``.
        """
        residual = residual.astype(np.float32)
        out = np.empty_like(residual)
        for first, (grams, inverses) in enumerate(zip(self._grams, self.at(ridge_share), strict=True)):
            pair = slice(2 * first, 2 * first + 2)
            out[pair] = _through(grams, inverses, residual[pair])
        return out


def _inverses(grams: list[np.ndarray], ridge: np.ndarray) -> list[np.ndarray]:
    """The inverse of one cue's block, and of the Schur complement of it where there is another cue."""
    first = _inverse(grams[0], ridge)
    if len(grams) == 1:
        return [first]
    _, own, across = grams
    complement_of_first = np.zeros_like(own)

    def complement(some: slice) -> None:
        """Some columns of the Schur complement, down to the diagonal: the matrix is symmetric."""
        complement_of_first[: some.stop, some] = own[: some.stop, some] - across[:, : some.stop].T @ (
            first @ across[:, some]
        )

    at_once(complement, [slice(at, at + _COLUMNS) for at in range(0, len(own), _COLUMNS)])
    return [first, _inverse(complement_of_first, ridge)]


def _through(grams: list[np.ndarray], inverses: list[np.ndarray], residual: np.ndarray) -> np.ndarray:
    """What is left of one or two cues, ``(cues, taps)``, through the inverse of their whole matrix."""
    one = inverses[0] @ residual[0]
    if len(grams) == 1:
        return one[None]
    across = grams[2]
    other = inverses[1] @ (residual[1] - across.T @ one)
    return np.stack([one - inverses[0] @ (across @ other), other])


def _inverse(gram: np.ndarray, ridge: np.ndarray) -> np.ndarray:
    """The inverse of a matrix with a ridge; with a firmer one where the matrix is not exact enough for it.

    Only the upper half of the matrix is looked at. The inverse is symmetric and positive to rounding, as it comes from
    a Cholesky factor (LAPACK's potri); a product with it takes a fifth of the time of solving with the factor.
    """
    for i in range(_MOST_FIRM + 1):
        matrix = gram.copy()
        matrix.flat[:: len(gram) + 1] += _FIRMER**i * ridge
        factor, failed = linalg.lapack.spotrf(matrix.T, lower=True, clean=False, overwrite_a=True)
        if not failed:
            return _whole(linalg.lapack.spotri(factor, lower=True, overwrite_c=True)[0].T)
    return np.diag(1 / (np.diag(gram) + ridge)).astype(np.float32)


def _whole(upper: np.ndarray) -> np.ndarray:
    """The symmetric matrix of which the upper half is given; in place, block by block."""
    count = len(upper)
    for first in range(0, count, _SQUARE):
        last = min(count, first + _SQUARE)
        square = np.triu(upper[first:last, first:last])
        upper[first:last, first:last] = square + np.triu(square, 1).T
        upper[last:, first:last] = upper[first:last, last:].T
    return upper


def _grams(cues: np.ndarray, weight: np.ndarray, taps: int, rate: int) -> list[np.ndarray]:
    """How the taps of one or two cues go together under the weights, nearly, each ``(taps, taps)`` float32.

    The cue's own; of two also the other's own, and the one's with the other's.
    """
    steps = round(_HOP_S * rate / STEP)
    hop = steps * STEP
    count, knots = cues.shape[1] // hop, -(-taps // hop) + 1
    weights = np.pad(weight[: count * steps].reshape(count, steps).mean(axis=1), (0, knots))
    later = np.lib.stride_tricks.sliding_window_view(weights, knots)[:count]  # the weights 0, 1, 2… hops later
    hops = cues[:, : count * hop].reshape(len(cues), count, hop)
    worth = later.max(axis=1) * np.einsum("cht,cht->h", hops, hops)
    matter = np.argsort(worth)[::-1][:_MOST_HOPS]
    size = fft.next_fast_len(hop + taps, real=True)
    pairs = list(product(range(len(cues)), repeat=2))

    def summed(first: int) -> np.ndarray:
        at = matter[first : first + _BATCH]
        pieces = np.zeros((len(cues), len(at), hop + taps), np.float32)
        for row, i in enumerate(at):
            piece = cues[:, i * hop : i * hop + hop + taps]
            pieces[:, row, : piece.shape[1]] = piece
        heads = fft.rfft(pieces[..., :hop], size, axis=2).conj()
        spectra = fft.rfft(pieces, size, axis=2)
        return np.stack([later[at].T @ (heads[a] * spectra[b]).view(np.float32) for a, b in pairs])

    alike = sum(at_once(summed, range(0, len(matter), _BATCH))).view(np.complex64)
    sums = fft.irfft(alike, size, axis=2)[..., :taps]
    lower = [_lower(own, hop) for own in sums]
    if len(cues) == 1:
        return [_whole(lower[0].T)]
    own, across, back, other = lower
    np.fill_diagonal(back, 0)
    across += back.T
    return [_whole(own.T), _whole(other.T), across]


def _lower(sums: np.ndarray, hop: int) -> np.ndarray:
    """The lower half of a matrix whose lags are given in ``sums`` ``(knots, taps)`` for taps every ``hop``, float32."""
    taps = sums.shape[1]
    out = np.zeros((taps, taps), np.float32)
    for tap in range(taps):
        knot, beyond = tap // hop, tap % hop / hop
        lags = (1 - beyond) * sums[knot, : tap + 1] + beyond * sums[min(knot + 1, len(sums) - 1), : tap + 1]
        out[tap, : tap + 1] = lags[::-1]
    return out
