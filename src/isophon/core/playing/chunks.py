"""Chunks of a mix, one after the other, faded where the place jumps, the scene changes or not all of it is ready."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np

from isophon.core.audio.shapes import raised_cosine
from isophon.core.playing.mix import Mix, Scene, mixed
from isophon.core.playing.readiness import Readiness

CHUNK = 1024  # frames rendered and queued together
_FADE = 256  # frames from one state to the next
SHORTEST_LOOP = 4 * _FADE
_FAR_COSTS = 0.05  # of the likeness, at the far end: of two places that are as like the nearer one
_NEAR_S = 0.008  # around a place at which slow playing goes on: half a period of a low voice


class Chunk(NamedTuple):
    """A piece of a mix. ``start``: its first frame."""

    start: int
    mix: Mix
    version: int
    for_now: bool  # not all of it is the scene, which was not ready
    ends: Scene  # what is heard at its end
    jump_from: int | None  # the frame that would have come, where it begins at a place that a person asked for
    at: int = 0  # its first frame in the ring

    @property
    def jumped(self) -> bool:
        """Whether it begins where a person asked for."""
        return self.jump_from is not None

    @property
    def frames(self) -> int:
        """Its length."""
        return self.mix.sung.shape[1]


class Wanted(NamedTuple):
    """What comes next: from ``start`` on, or with the ``loop`` from its beginning once that is past its end.

    ``jump_from``: the frame that would have come without the jump; ``faded_from``: the scene that was heard before.
    ``follows``: where it is played slowly, the frame that would come at full speed. ``once``: the loop is played to its
    end and no further.
    """

    start: int
    jump_from: int | None
    scene: Scene
    faded_from: Scene | None
    version: int
    loop: tuple[int, int] | None
    follows: int | None = None
    once: bool = False


class Span(NamedTuple):
    """``frames`` from ``start`` on; of ``follow`` more it is looked at already whether they are ready."""

    start: int
    frames: int
    follow: int
    jump_from: int | None


def span_of(wanted: Wanted, samples: int) -> Span:
    """The frames of the next chunk of a mix that is ``samples`` frames long."""
    start, loop = wanted.start, wanted.loop
    jump_from = wanted.follows if wanted.jump_from is None else wanted.jump_from
    if loop and start >= loop[1]:
        jump_from, start = (start if jump_from is None else jump_from), loop[0]
    stop = min(start + CHUNK, loop[1] if loop and start < loop[1] else samples)
    return Span(start, max(1, stop - start), min(CHUNK, max(1, samples - stop)), jump_from)


def make_chunk(wanted: Wanted, span: Span, ended: Scene | None, readiness: Readiness) -> Chunk:
    """A chunk of what is ready of a scene. ``ended``: what the one before ends with, None where there is none."""
    start, frames, scene, rate = span.start, span.frames, wanted.scene, readiness.rate
    now = readiness.scene(scene, start, frames)
    mix = mixed(now, rate, start, frames)
    fade = min(_FADE, frames)
    before: Mix | None = None
    if span.jump_from is not None:
        before = mixed(readiness.scene(ended or scene, span.jump_from, fade), rate, span.jump_from, fade)
    elif wanted.faded_from is not None:
        before = mixed(readiness.scene(ended or wanted.faded_from, start, fade), rate, start, fade)
    elif ended is not None and ended != now:
        before = mixed(ended, rate, start, fade)
    if before:
        _cross(before, mix, slice(0, fade))
    stop = start + frames
    if wanted.once and wanted.loop and stop >= wanted.loop[1]:
        for part in mix:
            part[:, -fade:] *= 1 - rise(fade, fade)[:, 0]
    follows = readiness.scene(now, stop - fade, fade + span.follow)
    if follows != now:  # what comes is not ready: this ends with what is, so that there is no edge
        then = mixed(follows, rate, stop - fade, fade)
        last = Mix(*(part[:, -fade:].copy() for part in mix))
        _cross(last, then, slice(0, fade))
        for part, piece in zip(mix, then, strict=True):
            part[:, frames - fade :] = piece
    return Chunk(start, mix, wanted.version, now != scene, follows, wanted.jump_from)


def slower(scene: Scene, natural: int, target: int, readiness: Readiness) -> int:
    """Where to go on instead of at frame ``natural``, so that it is played more slowly at its own pitch.

    At the place around ``target`` at which the mix is most like what would follow (waveform similarity, Verhelst &
    Roelands 1993).
    """
    rate = readiness.rate
    near = round(_NEAR_S * rate)

    def mono(first: int, frames: int) -> np.ndarray:
        mix = mixed(readiness.scene(scene, first, frames), rate, first, frames)
        return (mix.cleaned + mix.rest).sum(axis=0).astype(np.float64)

    wanted = mono(natural, _FADE)
    around = mono(target - near, 2 * near + _FADE)
    power = np.convolve(np.square(around), np.ones(_FADE), "valid")
    alike = np.correlate(around, wanted, "valid") / np.sqrt(power + 1e-9)
    far = np.abs(np.arange(-near, near + 1)) / near
    return target - near + int(np.argmax(alike - _FAR_COSTS * far * np.abs(alike).max()))


def _cross(before: Mix, after: Mix, span: slice) -> None:
    """Fade from one to the other within a span of what comes after, in place."""
    ramp = rise(span.stop - span.start, span.stop - span.start)[:, 0]
    for now, then in zip(after, before, strict=True):
        now[:, span] = now[:, span] * ramp + then[:, span] * (1 - ramp)


@lru_cache(maxsize=32)
def rise(length: int, total: int) -> np.ndarray:
    """From 0 to 1 along a raised cosine of ``length``, then 1; float32 ``(total, 1)``."""
    place = np.minimum(1.0, (np.arange(total) + 1) / length)
    return raised_cosine(place).astype(np.float32)[:, None]
