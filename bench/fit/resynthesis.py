"""A recorded voice said again in another way: whispered, belted or in falsetto, by source and filter.

Linear prediction (Makhoul 1975) of frames of 30 ms gives the filter; where the voice sounds its source is replaced by
noise, or by pulses of another pitch and slope. Consonants without voice stay as they are, and so do all times.
"""

from __future__ import annotations

import numpy as np
from scipy import linalg, signal

WAYS = ("whispered", "belted", "falsetto")
_PITCH = {"belted": 1.6, "falsetto": 2.4}
_SLOPE = {"whispered": 0.6, "belted": 0.6, "falsetto": 0.95}  # of a one-pole filter over white pulses or noise
_FRAME_S, _ORDER_A_KHZ = 0.03, 1.1


def said_again(samples: np.ndarray, rate: int, f0: np.ndarray, hop_s: float, way: str) -> np.ndarray:
    """The samples ``(n,)`` said in one of the WAYS; ``f0``: Hz every ``hop_s`` s, 0 where there is no voice."""
    rng, size = np.random.default_rng(0), round(_FRAME_S * rate) // 2 * 2
    hop, order = size // 2, round(_ORDER_A_KHZ * rate / 1_000)
    at = np.arange(len(samples) + size) / rate
    pitch = np.interp(at, np.arange(len(f0)) * hop_s, f0)
    source = rng.standard_normal(len(at)) if way == "whispered" else _pulses(pitch * _PITCH[way], rate)
    source = signal.lfilter([1], [1, -_SLOPE[way]], source)
    window, out = np.hanning(size + 1)[:-1], np.zeros(len(at))
    for first in range(0, len(samples) - size, hop):
        frame = samples[first : first + size] * window
        voiced = f0[min(len(f0) - 1, round((first + hop) / rate / hop_s))] > 0
        power = float(np.square(frame).mean())
        if voiced and power > 1e-10:
            emphasized = np.append(frame[0], frame[1:] - 0.9 * frame[:-1])
            r = np.correlate(emphasized, emphasized, "full")[size - 1 : size + order]
            model = np.append(1, -linalg.solve_toeplitz(r[:-1] + np.eye(1, order)[0] * 1e-4 * r[0], r[1:]))
            said = signal.lfilter([1], model, source[first : first + size] * window)
            frame = said * np.sqrt(power / (np.square(said).mean() + 1e-20))
        out[first : first + size] += frame
    return out[: len(samples)]


def _pulses(pitch: np.ndarray, rate: int) -> np.ndarray:
    turns = np.cumsum(np.maximum(pitch, 0) / rate)
    return np.diff(np.floor(turns), prepend=0) + 0.02 * np.random.default_rng(1).standard_normal(len(pitch))
