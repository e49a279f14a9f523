"""The mix: parts and guides heard together, at one rate, each where it starts in the song."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from isophon.core.audio.converting import read_converted
from isophon.core.render import Plan, Renderer
from isophon.core.session.model import Listening


@dataclass(frozen=True)
class Strip:
    """One voice of the mix.

    ``offset``: the frame of the mix where it starts; ``left``, ``right``: its
    gains; ``compared``: whether as sung, cleaned and taken out apply to it, or
    it is always heard cleaned. ``lifted``: what was taken out is moved up by
    300 Hz, so that its lows are heard on small loudspeakers.
    """

    renderer: Renderer
    plan: Plan
    offset: int = 0
    left: float = 1.0
    right: float = 1.0
    compared: bool = True
    lifted: bool = False


class Heard(NamedTuple):
    """A span of the mix, float32 ``(2, frames)`` each: compared strips as sung and cleaned, and all others."""

    sung: np.ndarray
    cleaned: np.ndarray
    rest: np.ndarray


_LIFT_HZ = 300.0

Scene = tuple[Strip, ...]


def gains(listening: Listening) -> tuple[float, float]:
    """Left and right gain: a balance that leaves both sides as they are in the middle."""
    gain = 10 ** (listening.gain_db / 20)
    return gain * min(1.0, 1 - listening.pan), gain * min(1.0, 1 + listening.pan)


def hear(scene: Scene, rate: int, start: int, frames: int) -> Heard:
    """Mix a span of a scene at ``rate`` Hz; any span equals the same span of the whole."""
    heard = Heard(*(np.zeros((2, frames), np.float32) for _ in range(3)))
    for strip in scene:
        at = start - strip.offset
        cleaned = _read(strip.renderer, strip.plan, rate, at, frames)
        if not strip.compared:
            _put(heard.rest, cleaned, strip)
            continue
        sung = _read(strip.renderer, (), rate, at, frames) if strip.plan else cleaned
        if strip.lifted and strip.plan and sung is not None:
            cleaned = sung - _lifted(sung - cleaned, rate, start)
        _put(heard.sung, sung, strip)
        _put(heard.cleaned, cleaned, strip)
    return heard


def _read(renderer: Renderer, plan: Plan, rate: int, start: int, frames: int) -> np.ndarray | None:
    length = renderer.samples * rate / renderer.sample_rate
    if start + frames <= 0 or start >= length:
        return None

    def read(first: int, count: int) -> np.ndarray:
        return renderer.cleaned(plan, first, count)

    return read_converted(read, renderer.sample_rate, rate, start, frames)


def _lifted(samples: np.ndarray, rate: int, start: int) -> np.ndarray:
    """Moved up by 300 Hz, and mirrored above: good enough to hear that there is something."""
    time = np.arange(start, start + samples.shape[1]) / rate
    return samples * (2 * np.cos(2 * np.pi * _LIFT_HZ * time)).astype(np.float32)


def _put(into: np.ndarray, samples: np.ndarray | None, strip: Strip) -> None:
    if samples is None:
        return
    left = samples[0] if strip.left == 1.0 else samples[0] * np.float32(strip.left)
    into[0] += left
    same = len(samples) == 1 and strip.left == strip.right
    into[1] += left if same else samples[-1] * np.float32(strip.right)
