"""How likely a short peak is a tick and no sound of the voice: logistic regression over what is measured of it.

The weights were fitted by ``bench/fit/tick.py`` on recorded voices with ticks mixed in at known places.
"""

from __future__ import annotations

import numpy as np

from isophon.core.passes.tick.peaks import Peaks

# Per dB, per bin, per share or per peak a second, as the measure has it; "" is the constant.
IN_VOICE: dict[str, float] = {
    "over_far": 0.1447,
    "over_near": -0.06312,
    "over_other": 0.2022,
    "crest": 0.253,
    "falls": 0.04786,
    "width": -0.1659,
    "change": -0.2315,
    "like_less": -7.63,
    "like_more": 3.058,
    "double": 0.1052,
    "crowd": -0.3738,
    "": -4.969,
}
# The same, outside of the voice.
ELSEWHERE: dict[str, float] = {
    "over_far": 0.1365,
    "over_near": -0.03123,
    "over_other": 0.29,
    "crest": 0.1761,
    "falls": 0.02919,
    "width": -0.06193,
    "change": -0.3399,
    "like_less": -11.1,
    "like_more": 4.659,
    "double": 0.1276,
    "crowd": -0.1171,
    "beside": -1.209,
    "still": 1.416,
    "": -5.347,
}


def likelihood(peaks: Peaks) -> np.ndarray:
    """How likely each peak is a tick.

    Parameters
    ----------
    peaks : n peaks and their measures.

    Returns
    -------
    ``(n,)``, from 0 to 1.
    """
    inside, outside = (sum(weight * getattr(peaks, name) for name, weight in weights.items() if name) + weights[""]
                       for weights in (IN_VOICE, ELSEWHERE))  # fmt: skip
    return 1 / (1 + np.exp(-np.where(peaks.voiced > 0, inside, outside)))
