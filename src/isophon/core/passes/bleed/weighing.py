"""How much each moment of a take counts while a path is learned, estimated every ``STEP`` frames.

A moment counts by how little else sounds in it: the weights of iteratively reweighted least squares.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy import ndimage

from isophon.core.audio.threads import at_once

STEP = 8  # frames that count alike
_PIECE = 1 << 18  # frames
_FLOOR_PERCENTILE = 5  # of the moments' powers that counts as half
_THIN = 8  # steps, of which one tells how loud the others are
_OWN_SHARE = 0.3  # of the leak's power, that a path that is not right yet may leave
_LOUD, _CLEAREST = 90, 4  # percentiles of the moments from which the path's own error is estimated
_MOST_OWN = 0.01  # share of the leak from which on that error cannot be estimated


def weights(power: np.ndarray, rate: int, around_s: float, leaked: np.ndarray | None = None) -> np.ndarray:
    """How much each moment counts: one over the power of what else sounds around it.

    What a path that is not right yet leaves of the leak is nothing else; but it is an error of the moments in which
    the leak is loud, without which a few of them would count for all.

    Parameters
    ----------
    power : ``(steps,)``, of the take without what is known of the leak.
    rate : Hz.
    around_s : s over which it is averaged.
    leaked : ``(steps,)``, the leak's power.

    Returns
    -------
    float32 ``(steps,)``, from 0 to 1.
    """
    size = max(1, round(around_s * rate / STEP))
    sounds = [power] if leaked is None else [power, leaked]
    power, *around = at_once(lambda one: ndimage.uniform_filter1d(one, size), sounds)
    own = 0.0
    if around:
        own = _own_share(power, around[0]) * around[0]
        power -= _OWN_SHARE * around[0]
    power = ndimage.maximum_filter1d(np.maximum(power, 0), size) + own
    floor = np.percentile(power[::_THIN], _FLOOR_PERCENTILE) + 1e-14
    return (floor / (power + floor)).astype(np.float32)


def within(weight: np.ndarray, moments: Sequence[tuple[float, float]], rate: int) -> np.ndarray:
    """Weights that are 0 outside of some spans.

    Parameters
    ----------
    weight : ``(steps,)``.
    moments : spans in s; all where none is given.
    rate : Hz.

    Returns
    -------
    ``(steps,)``.
    """
    if not moments:
        return weight
    chosen = np.zeros_like(weight)
    for start, end in moments:
        span = slice(max(0, round(start * rate / STEP)), max(0, round(end * rate / STEP)))
        chosen[span] = weight[span]
    return chosen


def powers(sound: np.ndarray, without: np.ndarray | None = None) -> np.ndarray:
    """The power of each step of a sound.

    Parameters
    ----------
    sound : ``(n,)``.
    without : ``(n,)``: what is subtracted from it before.

    Returns
    -------
    float32 ``(steps,)``.
    """
    out = np.empty(-(-len(sound) // STEP), np.float32)

    def tell(first: int) -> None:
        piece = sound[first : first + _PIECE]
        piece = piece if without is None else piece - without[first : first + _PIECE]
        more = -len(piece) % STEP
        rows = (np.pad(piece, (0, more), mode="edge") if more else piece).reshape(-1, STEP)
        out[first // STEP : first // STEP + len(rows)] = np.einsum("ts,ts->t", rows, rows)

    at_once(tell, range(0, len(sound), _PIECE))
    out /= STEP
    return out


def at_frames(weight: np.ndarray, span: slice) -> np.ndarray:
    """The weights of frames, which may end after the last.

    Parameters
    ----------
    weight : ``(steps,)``.
    span : frames.

    Returns
    -------
    ``(frames,)``.
    """
    first = span.start // STEP
    return np.repeat(weight[first : -(-span.stop // STEP)], STEP)[span.start - first * STEP :][: span.stop - span.start]


def _own_share(power: np.ndarray, leaked: np.ndarray) -> float:
    """How much of the leak the path leaves of it, as the few moments tell in which it is clearest.

    Under nearly all of the leak there may be voice, and what is measured there is the voice.
    """
    power, leaked = power[::_THIN], leaked[::_THIN]
    loud = leaked >= np.percentile(leaked, _LOUD)
    share = float(np.percentile(power[loud] / (leaked[loud] + 1e-20), _CLEAREST))
    return share if share < _MOST_OWN else 0.0  # a path that is not right yet cannot tell
