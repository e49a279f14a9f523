"""What the path missed: turned down only where the leak is most of what sounds.

A short-time Wiener gain with a floor: the power of what is left is taken to follow
the predicted leak's, by a share that the stillest moments tell, band by band
(residual echo suppression after Turbin, Gilloire & Scalart 1997). Under the voice the gain stays at 1.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy import fft, ndimage, signal

_WINDOW_S, _OVERLAP = 0.03, 4
_FLOOR_DB, _OVER = -12.0, 2.0
_SMOOTH_FRAMES, _SMOOTH_BINS = 3, 3
_BANDS = 24
_TAIL_S = 0.06
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
    out = np.zeros(len(left), np.float32)
    decay = float(np.exp(-hop / (_TAIL_S * rate)))
    tail = np.zeros(size // 2 + 1, np.float32)
    for first in range(0, frames, _BATCH):
        count = min(_BATCH, frames - first)
        sound, leaked = (_spectra(x, first, count, size, hop, window) for x in (left, pred))
        power = np.square(np.abs(leaked))
        for i in range(count):  # the leak rings on in the room
            tail = np.maximum(power[i], decay * tail)
            power[i] = tail
        heard = ndimage.uniform_filter(np.square(np.abs(sound)), (_SMOOTH_FRAMES, _SMOOTH_BINS), mode="nearest")
        gain = np.sqrt(np.maximum(1 - _OVER * share * power / (heard + 1e-20), 10 ** (_FLOOR_DB / 10)))
        gain = ndimage.uniform_filter(gain, (_SMOOTH_FRAMES, _SMOOTH_BINS), mode="nearest")
        pieces = fft.irfft(sound * (1 - gain), size, axis=1) * window
        for i in range(count):
            at = (first + i) * hop
            out[at : at + size] += pieces[i]
    return out[size : size + len(take)]


def _spectra(samples: np.ndarray, first: int, count: int, size: int, hop: int, window: np.ndarray) -> np.ndarray:
    piece = samples[first * hop : (first + count - 1) * hop + size]
    return fft.rfft(np.lib.stride_tricks.sliding_window_view(piece, size)[::hop] * window, axis=1)


def _shares(left: np.ndarray, leak: np.ndarray, size: int, hop: int, frames: int, window: np.ndarray) -> np.ndarray:
    """By how much the rest's power follows the leak's in the stillest quarter, for each bin, float32 ``(bins,)``."""
    step = max(1, frames // 4_000)
    sound, pred = (np.square(np.abs(_spectra(x, 0, frames, size, hop, window)[::step])) for x in (left, leak))
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
