"""The mix: parts and references heard together, at one rate, each where it starts in the song."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from scipy import signal

from isophon.core.audio.converting import read_converted
from isophon.core.audio.filters import linear_phase_band
from isophon.core.render import Renderer
from isophon.core.session.items import Listening
from isophon.core.staging import Plan


class BandAlone(NamedTuple):
    """What lies between two frequencies in Hz is heard alone, or all ``without`` it, times ``gain``."""

    low_hz: float
    high_hz: float | None
    gain: float
    without: bool = False


class PausesAlone(NamedTuple):
    """Only what lies between words is heard, times ``gain`` and limited; ``spans``: in frames of the mix, in order."""

    spans: tuple[tuple[int, int], ...]
    gain: float


@dataclass(frozen=True)
class Strip:
    """One voice of the mix.

    ``renderer``: of its take; on the way to the process that plays, the take's source. ``offset``: the frame of the mix
    where it starts; ``left``, ``right``: its gains; ``compared``: whether as sung, cleaned and taken out apply to it,
    or it is always heard cleaned. ``lifted``: what was taken out is moved up by 300 Hz, so that its lows are heard on
    small loudspeakers. ``band``: a band that is heard alone, or not. ``pauses``: what of it is heard, where that is not
    all.
    """

    renderer: Any
    plan: Any  # on that way, its number
    offset: int = 0
    left: float = 1.0
    right: float = 1.0
    compared: bool = True
    lifted: bool = False
    band: BandAlone | None = None
    pauses: PausesAlone | None = None


class Mix(NamedTuple):
    """A span of the mix, float32 ``(2, frames)`` each: compared strips as sung and cleaned, and all others."""

    sung: np.ndarray
    cleaned: np.ndarray
    rest: np.ndarray


_LIFT_HZ = 300.0  # Hz by which what was removed is moved up to be audible on small loudspeakers
_BAND_EDGE_HZ = 60.0  # Hz: width of the edges of a band that sounds alone
_PAUSE_EDGE_S, _LIMIT = 0.005, np.float32(0.35)
_REACH, _BAND_REACH = 4_096, 16_384  # frames around a span that converting and listening to a band may read

Scene = tuple[Strip, ...]


def gains(listening: Listening) -> tuple[float, float]:
    """Left and right gain: a balance that leaves both sides as they are in the middle."""
    gain = 10 ** (listening.gain_db / 20)
    return gain * min(1.0, 1 - listening.pan), gain * min(1.0, 1 + listening.pan)


def ready(strip: Strip, rate: int, start: int, frames: int) -> bool:
    """Whether a span of the mix can be heard of a strip without rendering any of it."""
    return strip.renderer.ready(strip.plan, *_needed(strip, rate, start, frames))


def make(strip: Strip, rate: int, start: int, frames: int) -> None:
    """Render a span of a strip, so that it is ready."""
    strip.renderer.cleaned(strip.plan, *_needed(strip, rate, start, frames))


def _needed(strip: Strip, rate: int, start: int, frames: int) -> tuple[int, int]:
    """The first frame of a strip's take, and how many, that a span of the mix may read."""
    own, reach = strip.renderer.sample_rate, 0 if strip.band is None else _BAND_REACH
    if own == rate:
        return start - strip.offset - reach, frames + 2 * reach
    reach += _REACH
    return (start - strip.offset) * own // rate - reach, frames * own // rate + 1 + 2 * reach


def mixed(scene: Scene, rate: int, start: int, frames: int) -> Mix:
    """Mix a span of a scene at ``rate`` Hz; any span equals the same span of the whole."""
    mix = Mix(*(np.zeros((2, frames), np.float32) for _ in range(3)))
    for strip in scene:
        at = start - strip.offset
        if strip.band is not None:
            alone = _in_band(strip, rate, at, frames)
            _put(mix.sung, alone, strip)
            _put(mix.cleaned, alone, strip)
            continue
        cleaned = _read(strip.renderer, strip.plan, rate, at, frames)
        if not strip.compared:
            _put(mix.rest, cleaned, strip)
            continue
        sung = _read(strip.renderer, (), rate, at, frames) if strip.plan else cleaned
        if strip.lifted and strip.plan and sung is not None:
            cleaned = sung - _lifted(sung - cleaned, rate, start)
        if strip.pauses is not None:
            sung, cleaned = (_close(strip.pauses, x, rate, start) for x in (sung, cleaned))
        _put(mix.sung, sung, strip)
        _put(mix.cleaned, cleaned, strip)
    return mix


def _read(renderer: Renderer, plan: Plan, rate: int, start: int, frames: int) -> np.ndarray | None:
    length = renderer.frames_of(plan) * rate / renderer.sample_rate
    if start + frames <= 0 or start >= length:
        return None

    def read(first: int, count: int) -> np.ndarray:
        return renderer.cleaned(plan, first, count)

    return read_converted(read, renderer.sample_rate, rate, start, frames)


def _in_band(strip: Strip, rate: int, at: int, frames: int) -> np.ndarray | None:
    """What lies in a strip's band, or all but it, cleaned; linear phase, so that it stays in its place."""
    band = strip.band
    assert band is not None
    taps = linear_phase_band(rate, band.low_hz, band.high_hz, max(_BAND_EDGE_HZ, 0.2 * band.low_hz))
    reach = len(taps) // 2
    if band.without:
        taps = -taps
        taps[reach] += 1.0
    taps = taps * band.gain
    samples = _read(strip.renderer, strip.plan, rate, at - reach, frames + 2 * reach)
    if samples is None:
        return None
    return signal.oaconvolve(samples, taps[None, :], "valid", axes=1).astype(np.float32)


def _close(pauses: PausesAlone, samples: np.ndarray | None, rate: int, start: int) -> np.ndarray | None:
    """The pauses of a span alone, lifted, and limited sample by sample so that no tail hurts."""
    if samples is None:
        return None
    at, edge = np.arange(start, start + samples.shape[1]), max(1, round(_PAUSE_EDGE_S * rate))
    gain = np.zeros(len(at), np.float32)
    for first, last in pauses.spans:
        if last > start and first < at[-1] + 1:
            gain = np.maximum(gain, np.clip(np.minimum(at - first, last - at) / edge, 0, 1).astype(np.float32))
    loud = samples * (gain * np.float32(pauses.gain))
    return (_LIMIT * np.tanh(loud / _LIMIT)).astype(np.float32)


def _lifted(samples: np.ndarray, rate: int, start: int) -> np.ndarray:
    """Moved up by 300 Hz, and mirrored above: good enough to mixed that there is something."""
    time = np.arange(start, start + samples.shape[1]) / rate
    return samples * (2 * np.cos(2 * np.pi * _LIFT_HZ * time)).astype(np.float32)


def _put(into: np.ndarray, samples: np.ndarray | None, strip: Strip) -> None:
    if samples is None:
        return
    left = samples[0] if strip.left == 1.0 else samples[0] * np.float32(strip.left)
    into[0] += left
    same = len(samples) == 1 and strip.left == strip.right
    into[1] += left if same else samples[-1] * np.float32(strip.right)
