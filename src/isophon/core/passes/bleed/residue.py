"""What the path missed: turned down only where the leak is most of what sounds.

A short-time Wiener gain with a floor: the power of what is left is taken to follow
the predicted leak's, by a share that the stillest moments tell, band by band
(residual echo suppression after Turbin, Gilloire & Scalart 1997). Under the voice the gain stays at 1.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy import fft, ndimage, signal

from isophon.core.audio.spectra import overlap_add
from isophon.core.audio.threads import at_once

_WINDOW_S, _OVERLAP = 0.03, 4
_FLOOR_DB, _OVER = -12.0, 2.0
_SMOOTH_FRAMES, _SMOOTH_BINS = 3, 3
_BANDS = 24
_TAIL_S, _LEAD_S = 0.06, 0.6
_BATCH = 512


def missed(take: np.ndarray, leak: np.ndarray, rate: int) -> np.ndarray:
    """What is to be taken out beside the predicted leak, ``(n,)`` float32; ``take`` ``(n,)`` still has the leak."""
    size = fft.next_fast_len(round(_WINDOW_S * rate) // 8 * 8, real=True)
    size += -size % (2 * _OVERLAP)
    hop = size // _OVERLAP
    window = np.sqrt(signal.get_window("hann", size) * 2 / _OVERLAP).astype(np.float32)
    left = np.pad(take - leak, size)
    pred = np.pad(leak, size)
    frames = (len(left) - size) // hop + 1
    share = _shares(left, pred, size, hop, frames, window)
    decay, lead = float(np.exp(-hop / (_TAIL_S * rate))), round(_LEAD_S * rate / hop)

    def some(first: int) -> np.ndarray:
        at = np.arange(first, min(frames, first + _BATCH))
        before = np.arange(max(0, first - lead), first)
        power = _power(pred, np.concatenate([before, at]), size, hop, window)
        for i in range(1, len(power)):  # the leak rings on in the room
            np.maximum(power[i], decay * power[i - 1], out=power[i])
        power = power[len(before) :]
        sound = _spectra(left, at, size, hop, window)
        heard = ndimage.uniform_filter(np.square(np.abs(sound)), (_SMOOTH_FRAMES, _SMOOTH_BINS), mode="nearest")
        gain = np.sqrt(np.maximum(1 - _OVER * share * power / (heard + 1e-20), 10 ** (_FLOOR_DB / 10)))
        gain = ndimage.uniform_filter(gain, (_SMOOTH_FRAMES, _SMOOTH_BINS), mode="nearest")
        pieces = fft.irfft(sound * (1 - gain), size, axis=1) * window
        out = np.zeros((len(at) + _OVERLAP - 1) * hop, np.float32)
        overlap_add(out, pieces, hop)
        return out

    out = np.zeros(len(left), np.float32)
    firsts = range(0, frames, _BATCH)
    for first, part in zip(firsts, at_once(some, firsts), strict=True):
        out[first * hop : first * hop + len(part)] += part
    return out[size : size + len(take)]


def _spectra(samples: np.ndarray, at: np.ndarray, size: int, hop: int, window: np.ndarray) -> np.ndarray:
    frames = np.lib.stride_tricks.sliding_window_view(samples, size)[::hop]
    return fft.rfft(frames[at] * window, axis=1)


def _power(samples: np.ndarray, at: np.ndarray, size: int, hop: int, window: np.ndarray) -> np.ndarray:
    return np.square(np.abs(_spectra(samples, at, size, hop, window)))


def _shares(left: np.ndarray, leak: np.ndarray, size: int, hop: int, frames: int, window: np.ndarray) -> np.ndarray:
    """By how much the rest's power follows the leak's in the stillest quarter, for each bin, float32 ``(bins,)``."""
    at = np.arange(0, frames, max(1, frames // 4_000))
    sound, pred = (_power(x, at, size, hop, window) for x in (left, leak))
    loud = sound.sum(axis=1)
    some = loud > 0
    if not some.any():
        return np.zeros(size // 2 + 1, np.float32)
    still = some & (loud <= np.percentile(loud[some], 25))
    edges = np.unique(np.geomspace(1, size // 2 + 1, _BANDS + 1).astype(int))
    share = np.zeros(size // 2 + 1, np.float32)
    for low, high in pairwise(edges):
        a, b = pred[still, low:high].sum(axis=1), sound[still, low:high].sum(axis=1)
        a_off, b_off = a - a.mean(), b - np.minimum(b, 10 * np.median(b)).mean()
        follows = float((a_off * np.minimum(b_off, 10 * np.median(b))).sum() / ((a_off**2).sum() + 1e-30))
        share[low:high] = np.clip(follows, 0.0, 0.5)
    return share
