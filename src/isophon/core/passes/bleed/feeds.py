"""What leaks, and the whitening under which its path is learned.

Feeds as long as the take are large, and so are whitened ones: they are whitened only piece by piece, where a piece is
asked for.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage, signal

from isophon.core.audio.spectra import frames_of, power_spectra
from isophon.core.passes.bleed.filtering import filtered
from isophon.core.passes.bleed.moving import Motion
from isophon.core.passes.bleed.weighing import STEP, powers

_WHITENER = 512  # samples of the spectra that the filter is made from
_STILL_PERCENTILE = 15  # of the take that is its quiet moments
_LOW_EDGE_HZ, _HIGH_EDGE = (60, 150), (0.42, 0.46)  # Hz, and of the rate, between which the whitener fades its ends out


@dataclass(frozen=True, eq=False)
class Feeds:
    """``sounds``: ``(feeds, n)`` float32; ``flat``: the filter ``(taps,)``, odd and symmetric, that whitens them;
    ``powers``: how loud all of them are when whitened, ``(steps,)``.
    """

    sounds: np.ndarray
    flat: np.ndarray
    powers: np.ndarray

    @classmethod
    def under(cls, flat: np.ndarray, sounds: np.ndarray) -> tuple[Feeds, np.ndarray]:
        """Sounds as they are looked at under a whitener, and all of them whitened.

        Parameters
        ----------
        flat : the whitener, ``(taps,)``.
        sounds : ``(feeds, n)``.
        """
        white = np.stack([whitened(sound, flat) for sound in sounds])
        return cls(sounds, flat, np.sum([powers(sound) for sound in white], axis=0)), white

    def moved(self, motion: Motion | None, rate: int) -> Feeds:
        """The same as they move, if they do."""
        return replace(self, sounds=motion.of(self.sounds, rate)) if motion else self

    def only(self, span: slice) -> Feeds:
        """The same of some frames, from one on with which a step begins."""
        steps = slice(span.start // STEP, -(-span.stop // STEP))
        return replace(self, sounds=self.sounds[:, span], powers=self.powers[steps])

    def through(self, path: np.ndarray) -> np.ndarray:
        """The whitened feeds through their paths, summed.

        Parameters
        ----------
        path : ``(feeds, taps)``.

        Returns
        -------
        float32 ``(n,)``.
        """
        return through(self.sounds, signal.oaconvolve(path, self.flat[None], axes=1), len(self.flat) // 2)


def through(feeds: np.ndarray, path: np.ndarray, early: int = 0) -> np.ndarray:
    """Feeds through their paths, summed.

    Parameters
    ----------
    feeds : ``(feeds, n)``.
    path : ``(feeds, taps)``.
    early : frames by which the sum comes sooner.

    Returns
    -------
    float32 ``(n,)``.
    """
    out = filtered(feeds[0], path[0], early)
    for feed, way in zip(feeds[1:], path[1:], strict=True):
        out += filtered(feed, way, early)
    return out


def whitener(take: np.ndarray, rate: int) -> np.ndarray:
    """A short linear-phase filter that flattens the noise of the take's quietest moments.

    Parameters
    ----------
    take : ``(n,)``.
    rate : Hz.

    Returns
    -------
    float32 ``(511,)``.
    """
    power = power_spectra(frames_of(take, _WHITENER, 2 * _WHITENER), np.hanning(_WHITENER))
    loud = power.sum(axis=1)
    some = loud > 1e-9 * loud.max()
    still = power[some & (loud <= np.percentile(loud[some], _STILL_PERCENTILE))] if some.any() else power
    density = ndimage.uniform_filter1d(still.mean(axis=0), 9) if len(still) else np.ones(_WHITENER // 2 + 1)
    hz = np.fft.rfftfreq(_WHITENER, 1 / rate)
    response = 1 / np.sqrt(density + 1e-3 * density.max() * 1e-2 + 1e-20)
    (low, below), (above, high) = _LOW_EDGE_HZ, (share * rate for share in _HIGH_EDGE)
    raising, falling = np.clip((hz - low) / (below - low), 0, 1), np.clip((high - hz) / (high - above), 0, 1)
    response *= raising * falling
    taps = np.roll(np.fft.irfft(response / response.max()), _WHITENER // 2)[: _WHITENER - 1]
    return (taps * np.hanning(_WHITENER - 1)).astype(np.float32)


def whitened(sound: np.ndarray, flat: np.ndarray) -> np.ndarray:
    """A sound through a whitener, in place in time.

    Parameters
    ----------
    sound : ``(n,)``.
    flat : ``(taps,)``.

    Returns
    -------
    float32 ``(n,)``.
    """
    return filtered(sound, flat, len(flat) // 2)
