"""Damaged samples interpolated from the voice around them.

Janssen, Veldhuis & Vries, "Adaptive interpolation of discrete-time signals that
can be modeled as autoregressive processes", IEEE Trans. ASSP 34 (1986): the
prediction is estimated from what is there, the missing samples are those that it
explains best, and both are improved in turn. Under a tick the voice is not lost
but added to: what was recorded there still counts, as much as the tick is weak,
which follows from what makes the difference from the guess most likely (additive
noise bursts: Godsill & Rayner 1998, chapter 6); a tick rings on after its mark
and dies away, how fast follows in the same way. In still moments the missing
part gets the noise back that the smoothest guess would lack (the same, 5.2.3.4),
so that the room goes on.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from scipy import linalg

from isophon.core.passes.stage import At, Read, Stage
from isophon.core.passes.tick.mark import TickMark

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_CONTEXT_S = 0.03  # s of the recording on either side that a repair is predicted from
_ORDER_S = 0.005  # s: the prediction looks back so far
_MOST_ORDER = 240  # coefficients, reached at 48 kHz: more cost too much time
_ROUNDS = 2  # times that prediction and samples are estimated in turn
_CLIPPED = 0.985  # of the highest sample: this near the top a sample counts as cut off
_MOST_MISSING = 0.5  # of the window
_SEED = 30_011  # of the noise, so that a repair is the same each time
_TICKS_DB = np.arange(-20.0, 60.0, 1.5)  # powers that a tick may have over the prediction error
_MOST_UNDER = 600  # frames of a tick under which the voice is looked for
RINGS_S = 0.002  # how long a tick that was found may ring on after its mark, s
_DECAYS_S = (0.0001, 0.0003, 0.0008)  # time constants by which it may die away
_LEAST_RINGING = 1e-3  # of its first level: no sample is taken to be free of the tick
_GROUPS = (1, 4)  # of directions, that may have powers of their own


class Repair(msgspec.Struct, frozen=True):
    """Frames ``first`` to ``last`` are interpolated; ``still``: with noise; ``clipped``: only those cut off.

    ``under``: the voice goes on under what was added to it; else it is lost there. ``ringing``: at the end, so many
    frames in which what was added dies away.
    """

    first: int
    last: int
    sample_rate: int
    still: bool = False
    clipped: bool = False
    under: bool = False
    ringing: int = 0


def treatments(part: Part) -> Iterator[Repair]:
    """What is done to the ticks of a part."""
    rate, frames = part.source.sample_rate, part.source.frames
    for mark, _ in part.changes_of(TickMark):
        first, last = (min(frames, max(0, round(t * rate))) for t in mark.span)
        if last - first >= 2:
            added = not mark.sound
            under = added and mark.voiced
            by_hand = mark.hand.drawn or mark.hand.end is not None  # then it ends where the hand says
            rings = min(round(RINGS_S * rate), frames - last, max(0, _MOST_UNDER - (last - first)))
            ringing = rings if added and not by_hand else 0
            yield Repair(first, last + ringing, rate, added and not under, mark.sound == "clipped", under, ringing)


def apply(block: np.ndarray, start: int, patches: list[tuple[Repair, np.ndarray]]) -> np.ndarray:
    """Puts repairs into a span of a take.

    Parameters
    ----------
    block : ``(channels, n)``, the take's frames from ``start`` on; it is not changed.
    start : frame.
    patches : repairs, each with what :func:`patch_of` gives for it.
    """
    out = block.copy()
    for repair, patch in patches:
        first, last = max(start, repair.first), min(start + block.shape[1], repair.last)
        if last > first:
            out[:, first - start : last - start] = patch[:, first - repair.first : last - repair.first]
    return out


def reach(repair: Repair) -> int:
    """How far around it a repair depends on the take, in frames."""
    return round(_CONTEXT_S * repair.sample_rate)


def patch_of(read: Read, repair: Repair) -> np.ndarray:
    """What takes the place of the damaged frames.

    Parameters
    ----------
    read : reads the take.
    repair : the frames.

    Returns
    -------
    float32 ``(channels, last - first)``.
    """
    around, length = reach(repair), repair.last - repair.first
    samples = read(repair.first - around, length + 2 * around).astype(np.float64)
    order = min(_MOST_ORDER, round(_ORDER_S * repair.sample_rate))
    out = np.empty((len(samples), length), np.float32)
    shapes = _shapes(repair) if repair.under else []
    for i, channel in enumerate(samples):
        missing = np.zeros(len(channel), bool)
        missing[around : around + length] = True
        if repair.clipped:
            missing &= np.abs(channel) >= _CLIPPED * np.abs(channel[around : around + length]).max()
        noise = np.random.default_rng((_SEED, i, repair.first + (1 << 40))) if repair.still else None
        out[i] = interpolated(channel, missing, order, noise, shapes)[around : around + length]
    return out


def interpolated(
    samples: np.ndarray,
    missing: np.ndarray,
    order: int,
    noise: np.random.Generator | None = None,
    under: Sequence[np.ndarray] = (),
) -> np.ndarray:
    """Samples with the missing ones filled in.

    Parameters
    ----------
    samples : ``(n,)``; not changed.
    missing : bool ``(n,)``; where more than half is missing, nothing is filled in.
    order : coefficients of the prediction.
    noise : gives what no prediction explains; None: the smoothest guess.
    under : if given, the samples are not missing, but something was added to them. ``(missing,)`` each: how loud it may
        be at each of them; the most likely of these shapes counts.

    Source: see the module.
    """
    out = samples.copy()
    if not missing.any() or missing.mean() > _MOST_MISSING:
        return out
    out[missing] = 0.0
    if not out.any():
        return out
    at = np.flatnonzero(missing)
    for _ in range(_ROUNDS):
        model = _model(out, order)
        known = np.where(missing, 0.0, out)
        overlap = np.correlate(model, model, "full")  # how two samples meet in the prediction errors
        gram = _gram(at, overlap, order)
        factor = linalg.cholesky_banded(gram, lower=True)
        out[at] = -linalg.cho_solve_banded((factor, True), np.convolve(known, overlap)[order:-order][at])
    if under and len(at) <= _MOST_UNDER:
        errors = np.convolve(out, model)[order : len(out)][~missing[order:]]
        out[at] += _voice_under(samples[at] - out[at], gram, float(np.mean(np.square(errors))) + 1e-14, under)
    if noise is not None:
        error = np.convolve(out, model)[order : len(out)]
        spread = float(np.median(np.abs(error))) / 0.6745
        out[at] += spread * _solved_upper(factor, noise.standard_normal(len(at)))
    return out


def _voice_under(difference: np.ndarray, gram: np.ndarray, error: float, shapes: Sequence[np.ndarray]) -> np.ndarray:
    """How much of what was recorded over the guess is voice.

    Parameters
    ----------
    difference : ``(n,)``, what was recorded less the guess.
    gram : ``(bands, n)``, how the samples meet in the prediction errors.
    error : the power that no prediction explains, mean square.
    shapes : ``(n,)`` each, how loud what was added may be over its time.

    What was added is white in time within its shape, or has another power in each quarter of the directions along
    which the guess is uncertain; the most likely of all these counts, each power costing twice what the Bayesian
    information criterion asks (tried once and twice on recorded voices).
    """
    ticks = error * 10 ** (_TICKS_DB[:, None] / 10)
    best, under = np.inf, difference
    for shape in shapes:
        values, vectors = _directions(gram, shape)
        voice = error / np.maximum(values, 1e-9)  # how uncertain the guess is, along each direction
        along = vectors.T @ (difference / shape)
        each = np.square(along) / (voice + ticks) + np.log(voice + ticks)  # (powers, directions)
        for count in (count for count in _GROUPS if count <= len(along)):
            firsts = np.arange(count) * len(along) // count
            groups = np.add.reduceat(each, firsts, axis=1)
            powers = groups.argmin(axis=0)
            powers[0] = powers[:2].min()  # where the voice is loudest, a wrong guess of it is no tick
            unlikely = groups[powers, np.arange(count)].sum() + 2 * count * np.log(len(along)) + 2 * np.log(shape).sum()
            if unlikely < best:
                tick = np.repeat(ticks[powers, 0], np.diff(firsts, append=len(along)))
                best, under = unlikely, shape * (vectors @ (voice / (voice + tick) * along))
    return under


def _shapes(repair: Repair) -> list[np.ndarray]:
    """How loud a tick may be over its time: as loud throughout its mark, then dying away fast or slowly."""
    length = repair.last - repair.first
    after = np.maximum(0, np.arange(length) - (length - repair.ringing) + 1) / repair.sample_rate
    return [np.maximum(_LEAST_RINGING, np.exp(-after / decay)) for decay in _DECAYS_S]


def _directions(gram: np.ndarray, shape: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Along which what is missing is independent, once it is divided by ``shape``, and how well each is known."""
    scaled = np.zeros((len(shape), len(shape)))
    for k in range(len(gram)):
        np.fill_diagonal(scaled[k:], gram[k, : len(shape) - k] * shape[k:] * shape[: len(shape) - k])
    return linalg.eigh(scaled, driver="evd", check_finite=False)  # in half the time of eig_banded: it is nearly full


def _gram(at: np.ndarray, overlap: np.ndarray, order: int) -> np.ndarray:
    """How the missing samples ``at`` meet, as the lower bands of a symmetric matrix ``(bands, missing)``."""
    bands = np.zeros((min(order + 1, len(at)), len(at)))
    for k in range(len(bands)):
        apart = at[k:] - at[: len(at) - k]
        bands[k, : len(at) - k] = np.where(apart <= order, overlap[np.minimum(apart, order) + order], 0.0)
    return bands


def _solved_upper(factor: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Solves ``Lᵀ x = values`` for a factor in lower bands."""
    upper = np.zeros_like(factor)
    for k in range(len(factor)):
        upper[len(factor) - 1 - k, k:] = factor[k, : factor.shape[1] - k]
    return linalg.solve_banded((0, len(factor) - 1), upper, values)


def _model(samples: np.ndarray, order: int) -> np.ndarray:
    """The prediction error filter, ``(order + 1,)``, by the covariance method with a little white noise under it."""
    covariance = _covariance(samples, order)
    gram, right = covariance[1:, 1:], covariance[1:, 0]
    gram[np.diag_indices_from(gram)] += 1e-6 * np.trace(gram) / order + 1e-14
    factor = linalg.cho_factor(gram, lower=True, check_finite=False)
    return np.concatenate([[1.0], -linalg.cho_solve(factor, right, check_finite=False)])


def _covariance(samples: np.ndarray, order: int) -> np.ndarray:
    """Sums of products of ``samples`` with themselves ``i`` and ``j`` samples earlier, ``(order + 1, order + 1)``.

    Going down a diagonal, one product enters at the beginning and one leaves at the end (Makhoul 1975), so that only
    the first row is summed in full.
    """
    first = np.correlate(samples, samples[order:], "valid")[::-1]
    last = len(samples) - 1
    lags = np.arange(order)
    enters, leaves = samples[order - 1 - lags], samples[last - lags]
    steps = np.outer(enters, enters) - np.outer(leaves, leaves)
    covariance = np.zeros((order + 1, order + 1))
    covariance[0] = first
    for i in range(order):
        covariance[i + 1, i + 1 :] = covariance[i, i:-1] + steps[i, i:]
    return np.triu(covariance) + np.triu(covariance, 1).T


def _apply(at: At, mine: Sequence[Repair]) -> np.ndarray:
    def patch(repair: Repair) -> np.ndarray:
        around = reach(repair)
        return at.keep(repair, repair.first - around, repair.last + around, lambda: patch_of(at.read, repair))

    return apply(at.block(), at.start, [(repair, patch(repair)) for repair in mine])


STAGE = Stage(
    "tick", (Repair,), _apply, ("bleed",), reach=lambda rate: round(_CONTEXT_S * rate), whole_span=True, slow=True
)
