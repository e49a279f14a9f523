"""Finding what is broad and low: mud, boxiness, boom, wider than an octave.

A room or a microphone that adds it adds it to its own noise too. So a broad bell (W3C Audio EQ Cookbook) over a
straight line in octaves is fitted to the spectrum of the stillest moments by least squares; what is narrow in that, as
the lines of a hum are, is taken out of it before by a running median. The voice has a say as well: where it is thin
down there, the noise alone is no proof.
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage

from isophon.core.audio.bell import Bell, response_db
from isophon.core.passes.band.grid import LOW_HZ, PER_OCTAVE, grid
from isophon.core.survey import VOICED, Survey

_TOP_HZ = 2_200.0  # Hz up to which the line and the bell are fitted
_MIDDLES_HZ = np.geomspace(180.0, 650.0, 46)  # Hz of the bells that are tried
_QS = np.geomspace(0.6, 3.0, 15)  # Q of these
_UNIT_DB = 6.0  # of a bell; over some dB its shape changes little with its height
_NARROW = 3 * PER_OCTAVE // 8 + 1  # cells, odd: what is narrower is no mud
_LEAST_DB = 3.5  # dB: a softer one is no mud
_MOST_DB = 12.0  # dB: none is taken for louder
_MOST_Q = 2.6  # what is narrower is no mud
_EXPLAINED = 0.8  # share of the variance that the bell must explain
_FULL_HZ = (200.0, 450.0)  # Hz: where a voice is full
_OVER_HZ = (550.0, 2_000.0)  # Hz: what it is compared with
_THIN_DB = 4.0  # a voice that would be so much thinner than even afterwards has no mud
_SURE = 0.7  # confidence where the voice is full there
_UNSURE = 0.4  # confidence where it is thin


def find(still: np.ndarray, survey: Survey) -> tuple[Bell, float] | None:
    """The broad bell in the spectrum of the noise floor, and how sure it is.

    Parameters
    ----------
    still : ``(cells,)``, dB at the frequencies of the grid.
    survey : what is measured of the take.
    """
    bell = _fitted(ndimage.median_filter(still, _NARROW, mode="nearest"))
    if bell is None:
        return None
    return bell, _SURE if fullness_db(survey) >= bell.gain_db - _THIN_DB else _UNSURE


def fullness_db(survey: Survey) -> float:
    """The level of the voice from 200 to 450 Hz over that from 550 to 2000 Hz, dB."""
    power = survey.bands[survey.state == VOICED].mean(axis=0, dtype=np.float64)
    centres = np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])
    low, over = (power[(centres >= a) & (centres < b)].sum() for a, b in (_FULL_HZ, _OVER_HZ))
    return float(10 * np.log10((low + 1e-20) / (over + 1e-20)))


def _fitted(levels: np.ndarray) -> Bell | None:
    """The broad bell that explains levels best over a straight line in octaves; None where none does well."""
    inside = (grid() >= LOW_HZ) & (grid() <= _TOP_HZ)
    hz, y = grid()[inside], levels[inside]
    line = np.stack([np.ones(len(hz)), np.log2(hz / LOW_HZ)], axis=1)
    bent = np.eye(len(y)) - line @ np.linalg.pinv(line)  # what a line does not explain
    plain = bent @ y
    bells = [Bell(round(float(f), 1), round(float(q), 2), _UNIT_DB) for f in _MIDDLES_HZ for q in _QS]
    shapes = bent @ np.stack([response_db((bell,), hz) for bell in bells], axis=1) / _UNIT_DB
    energy = np.square(shapes).sum(axis=0)
    heights = shapes.T @ plain / energy
    explained = np.square(heights) * energy * (heights > 0)
    best = int(np.argmax(explained))
    bell = Bell(bells[best].freq_hz, bells[best].q, round(float(min(_MOST_DB, heights[best])), 1))
    clear = explained[best] >= _EXPLAINED * float(plain @ plain)
    return bell if clear and bell.gain_db >= _LEAST_DB and bell.q <= _MOST_Q else None
