"""The frequencies at which bands are looked for, spectra there, and the bell that explains levels best."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from isophon.core.audio.bell import Bell
from isophon.core.audio.spectra import power_spectra

LOW_HZ = 110.0  # Hz: where the grid begins
HIGH_HZ = 5_400.0  # Hz: and ends
PER_OCTAVE = 24  # its cells
NEAR_CELLS = 1.5  # cells: partials so near are taken to tell of a cell
_QS = np.geomspace(3.0, 30.0, 20)  # of the bells that are tried
_GAINS = np.arange(1.5, 18.1, 0.5)  # dB of these
_FIT_OCTAVES = 0.75  # octaves to either side that a bell is fitted in
_FEWEST_CELLS = 12  # of which a fit is made
_UNEXPLAINED = 0.5  # of the variance around a band
_BATCH = 128  # spectra at once


class Partials(NamedTuple):
    """The partials of the sung notes, one value each: ``cell`` on the grid, ``over`` the frame's envelope in dB,
    ``f0`` Hz, ``level`` of the frame in dB, and its ``time`` in s.
    """

    cell: np.ndarray
    over: np.ndarray
    f0: np.ndarray
    level: np.ndarray
    time: np.ndarray


def grid() -> np.ndarray:
    """The frequencies that are looked at, ``(cells,)``, Hz."""
    return LOW_HZ * 2 ** (np.arange(int(np.log2(HIGH_HZ / LOW_HZ) * PER_OCTAVE)) / PER_OCTAVE)


def powers(samples: np.ndarray, centres: np.ndarray, size: int) -> np.ndarray:
    """Power spectra of windows around frames.

    Parameters
    ----------
    samples : ``(n,)``.
    centres : ``(frames,)``, the frames in the middle of the windows.
    size : samples in a window.

    Returns
    -------
    float32 ``(frames, size // 2 + 1)``.
    """
    window, out = np.hanning(size).astype(np.float32), np.empty((len(centres), size // 2 + 1), np.float32)
    for first in range(0, len(centres), _BATCH):
        begins = centres[first : first + _BATCH] - size // 2
        pieces = np.zeros((len(begins), size), np.float32)
        for piece, begin in zip(pieces, begins, strict=True):
            sound = samples[max(0, begin) : begin + size]
            piece[max(0, -begin) :][: len(sound)] = sound
        out[first : first + _BATCH] = power_spectra(pieces, window)
    return out


def on_grid(power: np.ndarray, width: float) -> np.ndarray:
    """Power spectra as levels at the frequencies of the grid; over the top of the spectrum its last level goes on.

    Parameters
    ----------
    power : ``(…, bins)``.
    width : Hz between bins.

    Returns
    -------
    ``(…, cells)``, dB.
    """
    half, bins = 2 ** (1 / (2 * PER_OCTAVE)), power.shape[-1]
    last = np.minimum(bins, np.ceil(grid() * half / width).astype(int) + 1)
    first = np.minimum(last - 1, np.maximum(1, (grid() / half / width).astype(int)))
    sums = np.cumsum(power, axis=-1, dtype=np.float64)
    return 10 * np.log10((sums[..., last - 1] - sums[..., first - 1]) / (last - first) + 1e-20)


def fitted(levels: np.ndarray, near_hz: float) -> Bell | None:
    """The bell that best explains levels around a frequency, over a straight line in octaves (least squares).

    Parameters
    ----------
    levels : ``(cells,)``, dB.
    near_hz : Hz.

    Returns
    -------
    None where no bell explains half of the variance.
    """
    hz = grid()
    octave = np.log2(hz / near_hz)
    inside = np.abs(octave) <= _FIT_OCTAVES
    y, line = levels[inside], np.stack([np.ones(inside.sum()), octave[inside]], axis=1)
    if len(y) < _FEWEST_CELLS:
        return None
    bent = np.eye(len(y)) - line @ np.linalg.pinv(line)  # what a line does not explain
    plain = bent @ y
    total = least = float(plain @ plain)
    best = None
    for freq_hz in near_hz * 2 ** (np.arange(-5, 6) / (2 * PER_OCTAVE)):
        for q in _QS:
            left = plain[:, None] - bent @ _smeared(freq_hz, q, hz[inside])
            errors = np.square(left).sum(axis=0)
            k = int(np.argmin(errors))
            if errors[k] < least:
                best, least = Bell(round(float(freq_hz), 1), round(float(q), 2), float(_GAINS[k])), float(errors[k])
    return best if least < _UNEXPLAINED * total else None


def _smeared(freq_hz: float, q: float, hz: np.ndarray) -> np.ndarray:
    """Bells of all gains in dB, ``(cells, gains)``, as the grid's cells average them."""
    a = 10 ** (_GAINS / 40)
    x = (hz[:, None] * 2 ** (np.array([-1, 0, 1]) / (3 * PER_OCTAVE)) / freq_hz)[:, :, None]
    flat = np.square(1 - x * x)
    return 10 * np.log10(((flat + np.square(a * x / q)) / (flat + np.square(x / (a * q)))).mean(axis=1))
