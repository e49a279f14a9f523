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

_WINDOW_S = 0.03  # s: length of a window
_OVERLAP = 4  # windows over each sample
_FLOOR_DB = -12.0  # dB: nothing is turned down further
_OVER = 2.0  # times the estimated power that is subtracted, against musical noise (Berouti et al. 1979; from memory)
_SMOOTH_FRAMES = 3  # frames over which powers and gains are averaged
_SMOOTH_BINS = 3  # bins of the same
_BANDS = 24  # in which the share is estimated
_TAIL_S = 0.06  # s: time constant by which the leak rings on in the room
_LEAD_S = 0.6  # s before a piece from which its ringing is followed
_ALONE_STEP_S = 0.01  # s between the moments at which leak and take are compared
_ALONE_SMOOTH_S = 0.05  # s over which their powers are averaged
_ALONE_AROUND_S = 0.06  # s to either side in which no voice may sound
_ALONE_DB = -3.0  # dB under the leak: where less than this is left, the leak is all that sounds
_ALONE_SLOPE_DB = 6.0  # dB further, where it is surely so
_BY_ITSELF = 0.9  # share from which a frame counts as the leak alone
_FEWEST = 40  # such frames that tell a share
_STILLEST_PERCENT = 10.0  # of the take whose power is the room's
_OVER_ROOM = 1.5  # times the room's power that is no leak
_BATCH = 512  # frames at once


def missed(take: np.ndarray, leak: np.ndarray, rate: int) -> np.ndarray:
    """What is to be taken out beside the predicted leak.

    Parameters
    ----------
    take : ``(n,)``, with the leak.
    leak : ``(n,)``, what is predicted.
    rate : Hz.

    Returns
    -------
    float32 ``(n,)``.
    """
    size = fft.next_fast_len(round(_WINDOW_S * rate) // 8 * 8, real=True)
    size += -size % (2 * _OVERLAP)
    hop = size // _OVERLAP
    window = np.sqrt(signal.get_window("hann", size) * 2 / _OVERLAP).astype(np.float32)
    left = np.pad(take - leak, size)
    pred = np.pad(leak, size)
    frames = (len(left) - size) // hop + 1
    by_itself = np.pad(alone(take, leak, rate), size)[size // 2 :: hop][:frames]
    share = _shares(left, pred, size, hop, by_itself, window)
    decay, lead = float(np.exp(-hop / (_TAIL_S * rate))), round(_LEAD_S * rate / hop)

    def some(first: int) -> np.ndarray:
        at = np.arange(first, min(frames, first + _BATCH))
        before = np.arange(max(0, first - lead), first)
        power = _power(pred, np.concatenate([before, at]), size, hop, window)
        for i in range(1, len(power)):  # the leak rings on in the room
            np.maximum(power[i], decay * power[i - 1], out=power[i])
        power = power[len(before) :]
        sound = _spectra(left, at, size, hop, window)
        power_there = ndimage.uniform_filter(np.square(np.abs(sound)), (_SMOOTH_FRAMES, _SMOOTH_BINS), mode="nearest")
        gain = np.sqrt(np.maximum(1 - _OVER * share * power / (power_there + 1e-20), 10 ** (_FLOOR_DB / 10)))
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


def alone(take: np.ndarray, leak: np.ndarray, rate: int) -> np.ndarray:
    """How much the leak is all that sounds; where it is, no voice can be harmed.

    Parameters
    ----------
    take, leak : ``(n,)``.
    rate : Hz.

    Returns
    -------
    float32 ``(n,)``, from 0 to 1.
    """
    step = max(1, round(_ALONE_STEP_S * rate))
    count = len(take) // step
    both = (take - leak, leak)
    left, own = (np.square(x[: count * step]).reshape(count, step).mean(axis=1, dtype=np.float64) for x in both)
    smooth = max(1, round(_ALONE_SMOOTH_S / _ALONE_STEP_S))
    left, own = (np.maximum(ndimage.uniform_filter1d(x, smooth), 0) + 1e-20 for x in (left, own))
    over = 10 * np.log10(left / own)
    over = ndimage.maximum_filter1d(over, 2 * round(_ALONE_AROUND_S / _ALONE_STEP_S) + 1)
    share = np.clip((_ALONE_DB - over) / _ALONE_SLOPE_DB, 0, 1)
    at = (np.arange(len(take)) + 0.5) / step - 0.5
    return np.interp(at, np.arange(count), ndimage.uniform_filter1d(share, 3)).astype(np.float32)


def _spectra(samples: np.ndarray, at: np.ndarray, size: int, hop: int, window: np.ndarray) -> np.ndarray:
    frames = np.lib.stride_tricks.sliding_window_view(samples, size)[::hop]
    return fft.rfft(frames[at] * window, axis=1)


def _power(samples: np.ndarray, at: np.ndarray, size: int, hop: int, window: np.ndarray) -> np.ndarray:
    return np.square(np.abs(_spectra(samples, at, size, hop, window)))


def _shares(
    left: np.ndarray, leak: np.ndarray, size: int, hop: int, by_itself: np.ndarray, window: np.ndarray
) -> np.ndarray:
    """By how much the rest's power follows the leak's, for each bin, float32 ``(bins,)``.

    In the stillest quarter of the take, or where the leak sounds alone (``by_itself``, a share a frame), whichever
    tells more.
    """
    frames = len(by_itself)
    at = np.arange(0, frames, max(1, frames // 4_000))
    sound, pred = (_power(x, at, size, hop, window) for x in (left, leak))
    loud = sound.sum(axis=1)
    some = loud > 0
    if not some.any():
        return np.zeros(size // 2 + 1, np.float32)
    still, stillest = (some & (loud <= np.percentile(loud[some], share)) for share in (25, _STILLEST_PERCENT))
    edges = np.unique(np.geomspace(1, size // 2 + 1, _BANDS + 1).astype(int))
    share = np.zeros(size // 2 + 1, np.float32)
    for low, high in pairwise(edges):
        a, b = pred[still, low:high].sum(axis=1), sound[still, low:high].sum(axis=1)
        a_off, b_off = a - a.mean(), b - np.minimum(b, 10 * np.median(b)).mean()
        follows = float((a_off * np.minimum(b_off, 10 * np.median(b))).sum() / ((a_off**2).sum() + 1e-30))
        mine = by_itself[at] > _BY_ITSELF
        if np.count_nonzero(mine) >= _FEWEST:
            rest, own = sound[mine, low:high].sum(axis=1), pred[mine, low:high].sum(axis=1)
            over = rest.sum() - _OVER_ROOM * len(rest) * sound[stillest, low:high].sum(axis=1).mean()
            follows = max(follows, float(over / (own.sum() + 1e-30)))
        share[low:high] = np.clip(follows, 0.0, 0.5)
    return share
