"""Whether the upper part of a voiced sound is noise (Z, Zh) or the voice's own harmonics (bright vowels).

The sound above 2.8 kHz is compared with itself one period later: harmonics
repeat, noise does not. (Normalised cross-correlation at the pitch period, after
Medan, Yair & Chazan 1991, "Super resolution pitch determination".)
"""

from __future__ import annotations

import numpy as np
from scipy import ndimage, signal

from isophon.core.audio.filters import BothWays
from isophon.core.passes.stage import Read
from isophon.core.survey import Survey

_LOW_HZ = 2_800.0  # Hz: the band whose repetition is measured
_HIGH_HZ = 9_000.0  # Hz: its top
_PITCH_SPREAD = 0.04  # of the period around which the repetition is looked for
_WINDOW_S = 0.012  # s that are compared, two periods at least
_CONTEXT_S = 0.05  # s around a run that the filter needs


def upper_harmonicity(read: Read, survey: Survey, wanted: np.ndarray) -> np.ndarray:
    """How well the sound above 2.8 kHz repeats with the pitch: 0 for noise, near 1 for a clear vowel.

    Parameters
    ----------
    read : reads the take; of a stereo take the louder side is measured.
    survey : what is measured of it.
    wanted : bool ``(survey frames,)``, where to measure.

    Returns
    -------
    ``(survey frames,)``; NaN where it is not wanted, and where there is no pitch.
    """
    result = np.full(len(wanted), np.nan)
    rate = survey.sample_rate
    band = BothWays(signal.butter(4, [_LOW_HZ, min(_HIGH_HZ, 0.45 * rate)], "bandpass", fs=rate, output="sos"))
    context = round(_CONTEXT_S * rate)
    labels, _ = ndimage.label(wanted & (survey.f0 > 0))
    for (where,) in ndimage.find_objects(labels):
        centres = np.round(np.arange(where.start, where.stop) * survey.hop_s * rate).astype(int)
        begin = int(centres[0]) - context
        samples = read(begin, int(centres[-1]) + context - begin)
        loudest = samples[int(np.argmax(np.square(samples).sum(axis=1)))]
        upper = band(loudest).astype(np.float32)
        for frame, centre in zip(range(where.start, where.stop), centres - begin, strict=True):
            result[frame] = _repetition(upper, int(centre), rate / float(survey.f0[frame]), rate)
    return result


def _repetition(samples: np.ndarray, centre: int, period: float, rate: int) -> float:
    """Highest normalised correlation of the window around ``centre`` with itself about a period later."""
    shortest, longest = int(period * (1 - _PITCH_SPREAD)), int(period * (1 + _PITCH_SPREAD)) + 2
    size = int(max(2 * period, _WINDOW_S * rate))
    start = centre - (size + int(period)) // 2
    if start < 0 or start + size + longest > len(samples):
        return float("nan")
    own = samples[start : start + size]
    later = samples[start + shortest : start + longest + size - 1]
    sums = np.concatenate([[0.0], np.cumsum(np.square(later), dtype=np.float64)])
    energy = float(own @ own) * (sums[size:] - sums[:-size])
    return float(np.max(np.correlate(later, own) / np.sqrt(np.maximum(energy, 1e-24))))
