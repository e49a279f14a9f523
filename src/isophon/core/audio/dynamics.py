"""Gain computers of compressors: the static curve and the smoothing of Giannoulis, Massberg & Reiss 2012.

("Digital dynamic range compressor design", J. Audio Eng. Soc. 60.)
"""

from __future__ import annotations

import math

import numpy as np
from scipy import signal

NOTHING_DB = 0.01  # what is less is none


def static_db(over: np.ndarray, ratio: float, knee_db: float) -> np.ndarray:
    """What the static curve of a compressor takes off.

    Parameters
    ----------
    over : dB over the threshold, of any shape.
    ratio : 1 and more.
    knee_db : width of the soft knee.

    Returns
    -------
    dB, at least 0, in the shape of ``over``.

    Examples
    --------
    >>> static_db(np.array([-20.0, 0.0, 8.0]), ratio=4.0, knee_db=6.0)
    array([0.    , 0.5625, 6.    ])
    """
    slope = 1 - 1 / ratio
    knee = slope * np.square(over + knee_db / 2) / (2 * max(knee_db, 1e-9))
    return np.where(2 * over > knee_db, slope * over, np.where(2 * over < -knee_db, 0.0, knee))


def smoothed(wanted: np.ndarray, tick_s: float, attack_s: float, release_s: float, hold_s: float) -> np.ndarray:
    """What is taken off from tick to tick, with attack, hold and release.

    Parameters
    ----------
    wanted : ``(ticks,)``, dB that would be taken off at once.
    tick_s : s between ticks.
    attack_s, release_s : time constants, s.
    hold_s : s before it lets go.

    Returns
    -------
    ``(ticks,)``, dB.
    """
    attack, release = (math.exp(-tick_s / max(t, 1e-6)) for t in (attack_s, release_s))
    hold, out = round(hold_s / tick_s), np.zeros(len(wanted))
    active = np.flatnonzero(wanted > 0)
    at, state, held = 0, 0.0, 0
    values = wanted.tolist()
    nexts = active.tolist()
    k = 0
    while at < len(values):
        if state == 0.0 and values[at] <= 0:  # nothing happens until the next that is over
            while k < len(nexts) and nexts[k] < at:
                k += 1
            if k == len(nexts):
                break
            at = nexts[k]
        target = values[at]
        if target > state:
            state, held = attack * state + (1 - attack) * target, hold
        elif held > 0:
            held -= 1
        else:
            state = release * state + (1 - release) * target
            state = 0.0 if state < NOTHING_DB and target <= 0 else state
        out[at] = state
        at += 1
    return out


def decoupled(wanted: np.ndarray, tick_s: float, attack_s: float, release_s: float) -> np.ndarray:
    """The same without a hold, by the decoupled detector of the same paper; many times as fast.

    It lets go at once, though softly, where :func:`smoothed` waits for the attack to end.

    Parameters
    ----------
    wanted : ``(ticks,)``, dB that would be taken off at once.
    tick_s : s between ticks.
    attack_s, release_s : time constants, s.

    Returns
    -------
    ``(ticks,)``, dB.
    """
    attack, fall = math.exp(-tick_s / max(attack_s, 1e-6)), tick_s / max(release_s, 1e-6)
    falls = fall * np.arange(len(wanted))
    released = np.exp(np.maximum.accumulate(np.log(np.maximum(wanted, 1e-9)) + falls) - falls)
    return signal.lfilter([1 - attack], [1.0, -attack], released)
