"""What a leaked click sounds like: the sound that its beats have in common, at each of them."""

from __future__ import annotations

import numpy as np
from scipy import ndimage, signal

from isophon.core.passes.bleed.click import Click, waves_at

_SINC = 16  # samples to either side of the sinc that puts a beat between samples
_RISES_S = 0.06  # s before a beat that belong to its sound: filters ring before it too
_RINGS_S = 0.13  # s after it
_MOMENT_S = 0.01  # s over which the power of other sounds is averaged
_ROUNDS = 4  # times that the sound and the weights of its beats are estimated in turn
_QUIET_PERCENTILE = 5  # of a moment's power over the beats, which stands for its quiet ones


def feeds_of(click: Click, take: np.ndarray, rate: int) -> np.ndarray:
    """What leaked: each sound at its beats.

    Parameters
    ----------
    click : a click.
    take : ``(n,)``.
    rate : Hz.

    Returns
    -------
    float32 ``(sounds, n)``.
    """
    out = np.zeros((len(click.times), len(take)), np.float32)
    around = np.arange(-_SINC, _SINC + 1)
    for train, times in zip(out, click.times, strict=True):
        for at in times * rate:  # beats lie between samples
            places = round(at) + around
            inside = (places >= 0) & (places < len(take))
            off = places - at
            train[places[inside]] += (np.sinc(off) * np.cos(np.pi * off / (2 * _SINC + 3)) ** 2)[inside]
    sounds = [_sound(take, times, rate, min(_RINGS_S, click.beat_s - _RISES_S)) for times in click.times]
    before = round(_RISES_S * rate)
    feeds = [signal.oaconvolve(train, sound)[before : before + len(take)] for train, sound in
             zip(out, sounds, strict=True)]  # fmt: skip
    return np.stack(feeds).astype(np.float32)


def _sound(take: np.ndarray, times: np.ndarray, rate: int, rings_s: float) -> np.ndarray:
    """What the beats have in common, from some time before them on: their mean, each moment of each counting by
    how little else sounds in it.
    """
    waves = waves_at(take, times, rate, _RISES_S, rings_s)
    smooth = round(_MOMENT_S * rate)
    mean = np.zeros(waves.shape[1])
    for _ in range(_ROUNDS):
        power = ndimage.uniform_filter1d(np.square(waves - mean), smooth, axis=1)
        weight = 1 / (power + np.percentile(power, _QUIET_PERCENTILE, axis=0) + 1e-20)
        mean = (weight * waves).sum(axis=0) / weight.sum(axis=0)
    return mean * signal.get_window(("tukey", 0.1), len(mean), fftbins=False)
