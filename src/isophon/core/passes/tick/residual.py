"""What a voice's own prediction does not explain: the autoregressive residual of a take.

Autocorrelation method with Levinson's recursion, many blocks at once
(Godsill & Rayner 1998, "Digital Audio Restoration", chapter 5).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import fft, signal

from isophon.core.audio.spectra import frames_of

ORDER = 24  # coefficients of the prediction
_BLOCK_S = 0.032  # s: the prediction is estimated anew for each block, about a phoneme's steady part
_EDGES_HZ = (2_000.0, 5_500.0, 11_000.0)  # Hz: where the bands begin; the lowest one over a voice's strong partials
_FILTER_S = 0.0015  # s: length of the filters that part the bands
_BATCH = 64  # blocks: what fits the processor's own memory
_WHITE = 1e-5  # white noise of −50 dB under each block keeps the prediction tame


def residual(samples: np.ndarray, sample_rate: int) -> np.ndarray:
    """The prediction error in up to three bands above a voice's strong partials, which would hide a click.

    Parameters
    ----------
    samples : ``(n,)``.
    sample_rate : Hz.

    Returns
    -------
    float32 ``(bands, n)``; one band less for each that lies above the rate.
    """
    size = round(_BLOCK_S * sample_rate) // 2 * 2
    count = -(-len(samples) // size)
    padded = np.zeros(count * size + size, np.float32)
    padded[size // 2 : size // 2 + len(samples)] = samples
    frames = frames_of(padded, 2 * size, size)
    window = signal.get_window("hann", 2 * size).astype(np.float32)
    # each block with the samples around it that its prediction and the bands' filters need
    bands = _filters(sample_rate)
    half = len(bands[0]) // 2
    before, around = ORDER + half, size + ORDER + 2 * half
    shifted = np.concatenate([np.zeros(before, np.float32), padded[size // 2 : size // 2 + count * size],
                              np.zeros(half, np.float32)])  # fmt: skip
    blocks = frames_of(shifted, around, size)
    length = fft.next_fast_len(around, real=True)
    responses = [fft.rfft(taps, length) for taps in bands]
    error = np.empty((len(bands), count, size), np.float32)
    for first in range(0, count, _BATCH):
        some = slice(first, min(count, first + _BATCH))
        models = fft.rfft(_models(frames[some] * window), length, axis=1)
        spectrum = fft.rfft(blocks[some], length, axis=1) * models
        for i, response in enumerate(responses):
            error[i, some] = fft.irfft(spectrum * response, length, axis=1)[:, around - size : around]
    return error.reshape(len(bands), -1)[:, : len(samples)]


@lru_cache(maxsize=8)
def _filters(sample_rate: int) -> tuple[np.ndarray, ...]:
    """Linear-phase filters of three bands, as far as the rate reaches."""
    top = 0.48 * sample_rate
    edges = [edge for edge in _EDGES_HZ if edge < top - 1_000.0]
    bands = zip(edges, [*edges[1:], top], strict=True)
    taps = round(_FILTER_S * sample_rate) | 1
    return tuple(signal.firwin(taps, band, pass_zero=False, fs=sample_rate).astype(np.float32) for band in bands)


def _models(frames: np.ndarray) -> np.ndarray:
    """Prediction error filters ``(frames, ORDER + 1)``, the first coefficient 1."""
    length = fft.next_fast_len(frames.shape[1] + ORDER + 1, real=True)
    spectrum = fft.rfft(frames, length, axis=1)
    power = np.square(spectrum.real) + np.square(spectrum.imag)
    r = fft.irfft(power, length, axis=1)[:, : ORDER + 1].astype(np.float64)
    r[:, 0] = r[:, 0] * (1 + _WHITE) + 1e-12
    a = np.zeros((len(frames), ORDER + 1))
    a[:, 0] = 1.0
    error = r[:, 0].copy()
    for i in range(1, ORDER + 1):
        reflection = -(a[:, :i] * r[:, i:0:-1]).sum(axis=1) / error
        a[:, 1 : i + 1] += reflection[:, None] * a[:, i - 1 :: -1][:, :i]
        error *= 1 - np.square(reflection)
    return a.astype(np.float32)
