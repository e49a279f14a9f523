"""How high a take really reaches: a recording that was brought to a higher rate has nothing in its top."""

from __future__ import annotations

import numpy as np

from isophon.core.audio.loudness import db
from isophon.core.audio.spectra import power_spectra
from isophon.core.passes.stage import Read

_FORMER_HZ = (22_050, 24_000, 32_000, 44_100, 48_000)  # Hz: rates that a recording may have had before
_ENOUGH_HZ = 88_200  # Hz: a higher rate is brought down to about this
_BELOW = (0.80, 0.90)  # levels are compared here, of half the former rate
_ABOVE = (1.03, 1.08)  # and here
_CLIFF_DB = 40.0  # so much less above: it had that rate
_SPANS = 48  # places of the take that are measured
_SIZE = 4_096  # samples in each


def telling_rate(read: Read, sample_rate: int, frames: int) -> int:
    """The rate at which a take of ``frames`` frames tells all it has to: the one it had before, if it had another.

    Above its top nothing is to be predicted. And what lies above some 48 kHz tells nothing of a click that the rest
    does not.
    """
    window = np.hanning(_SIZE)
    power = np.zeros(_SIZE // 2 + 1)
    for at in np.linspace(0, max(0, frames - _SIZE), _SPANS).astype(int):
        power += power_spectra(read(int(at), _SIZE), window).sum(axis=0)
    hz = np.fft.rfftfreq(_SIZE, 1 / sample_rate)
    for rate in _FORMER_HZ:
        if rate * _ABOVE[1] > sample_rate:
            break
        below, above = (float(power[(hz > a * rate / 2) & (hz < b * rate / 2)].mean()) for a, b in (_BELOW, _ABOVE))
        if db(below + 1e-20) - db(above + 1e-20) > _CLIFF_DB:
            return rate
    return sample_rate // max(1, sample_rate // _ENOUGH_HZ)
