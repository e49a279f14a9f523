"""Short-time spectra with a geometry of their own, computed a batch at a time in float32.

A frame is centred on its time: frame ``i`` covers the window around
``i · hop`` frames, as in :class:`scipy.signal.ShortTimeFFT`.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import fft, signal


def frames_of(samples: np.ndarray, size: int, hop: int) -> np.ndarray:
    """Frames of a signal.

    Parameters
    ----------
    samples : ``(n,)``.
    size : samples in a frame.
    hop : samples between frames.

    Returns
    -------
    A view, ``(frames, size)``.
    """
    return np.lib.stride_tricks.sliding_window_view(samples, size)[::hop]


def power_spectra(frames: np.ndarray, window: np.ndarray) -> np.ndarray:
    """The squared magnitudes of the spectra of windowed frames.

    Parameters
    ----------
    frames : ``(…, size)``.
    window : ``(size,)``.

    Returns
    -------
    ``(…, size // 2 + 1)``.
    """
    spectrum = fft.rfft(frames * window, axis=-1)
    return np.square(spectrum.real) + np.square(spectrum.imag)


@dataclass(frozen=True)
class Geometry:
    """Window and hop in frames of a signal at ``sample_rate`` Hz."""

    sample_rate: int
    size: int
    hop: int

    @classmethod
    def of_seconds(cls, sample_rate: int, window_s: float, hop_s: float) -> Geometry:
        """The nearest geometry with a length that transforms fast."""
        size = fft.next_fast_len(max(16, round(window_s * sample_rate)), real=True)
        return cls(sample_rate, size + size % 2, max(1, round(hop_s * sample_rate)))

    @cached_property
    def window(self) -> np.ndarray:
        """A periodic Hann window ``(size,)`` whose mean squared magnitudes sum to the mean square."""
        window = signal.get_window("hann", self.size)
        return (window / np.sqrt(np.square(window).sum())).astype(np.float32)

    @cached_property
    def freqs(self) -> np.ndarray:
        """The centre of each bin, ``(bins,)``, Hz."""
        return fft.rfftfreq(self.size, 1 / self.sample_rate)

    def count(self, frames: int) -> int:
        """How many frames cover a signal of ``frames`` samples."""
        return -(-frames // self.hop)

    def power(self, samples: np.ndarray) -> np.ndarray:
        """One-sided power spectra of windows starting every hop.

        ``samples``: float32 ``(n,)`` that begins half a window before the first
        frame's time. Returns ``(n_frames, bins)`` float32; the sum over bins is
        the mean square in the window.
        """
        power = power_spectra(frames_of(samples, self.size, self.hop), self.window)
        power *= np.float32(2.0 / self.size)
        power[:, 0] *= 0.5
        if self.size % 2 == 0:
            power[:, -1] *= 0.5
        return power


def third_octave_edges(low: float, high: float) -> np.ndarray:
    """Edges of one-third-octave bands (ISO 266, base two).

    Parameters
    ----------
    low, high : of the lowest and of the highest band, Hz.

    Returns
    -------
    ``(bands + 1,)``, Hz.
    """
    first = round(3 * np.log2(low / 1000.0))
    last = round(3 * np.log2(high / 1000.0))
    centres = 1000.0 * 2.0 ** (np.arange(first, last + 1) / 3)
    return np.append(centres * 2 ** (-1 / 6), centres[-1] * 2 ** (1 / 6))


def band_matrix(freqs: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """Weights that sum bins into bands; a bin that an edge crosses is shared.

    Parameters
    ----------
    freqs : ``(bins,)``, Hz.
    edges : ``(bands + 1,)``, Hz.

    Returns
    -------
    float32 ``(bins, bands)``.
    """
    width = freqs[1] - freqs[0]
    low = np.maximum((freqs - width / 2)[:, None], edges[None, :-1])
    high = np.minimum((freqs + width / 2)[:, None], edges[None, 1:])
    return (np.maximum(0.0, high - low) / width).astype(np.float32)


def overlap_add(out: np.ndarray, frames: np.ndarray, hop: int) -> None:
    """Adds frames to a signal, in place.

    Parameters
    ----------
    out : ``(n * hop + size - hop,)``.
    frames : ``(n, size)``.
    hop : samples between frames; it divides ``size``.
    """
    parts = frames.reshape(len(frames), -1, hop)
    for i in range(parts.shape[1]):
        out[i * hop : (i + len(frames)) * hop] += parts[:, i].reshape(-1)
