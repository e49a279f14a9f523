"""A step of rendering, and what it is asked for."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, Protocol

import numpy as np

from isophon.core.survey import Survey

Read = Callable[[int, int], np.ndarray]
Sounds = tuple[np.ndarray, np.ndarray]


class Treatment(Protocol):
    """Something done to frames ``first`` to ``last`` of a take; frozen and hashable."""

    @property
    def first(self) -> int:
        """The first frame that may change."""

    @property
    def last(self) -> int:
        """The frame after the last."""


class At(NamedTuple):
    """What a stage is asked for, and what it has: frames ``start`` to ``start + frames`` of a take.

    ``read(start, frames)`` gives what the stage before left, at any place, float32 ``(channels, frames)``, zeros
    outside of the take. ``kept(key, first, last, make)``: the array that ``make`` gives, made anew only where ``key``
    or what was done before to frames ``first`` to ``last`` has changed; None where a whole take is rendered in
    order and nothing is asked for twice. ``sounds(key)``: sounds kept beside the take.
    """

    read: Read
    start: int
    frames: int
    sample_rate: int
    kept: Callable[[Any, int, int, Callable[[], np.ndarray]], np.ndarray] | None
    sounds: Callable[[str], Sounds | None]

    @property
    def stop(self) -> int:
        """The frame after the last."""
        return self.start + self.frames

    def within(self, treatment: Any) -> tuple[int, int, slice]:
        """The frames of a treatment among those that are asked for: first, the one after the last, and both there."""
        first, last = max(self.start, treatment.first), min(self.stop, treatment.last)
        return first, last, slice(first - self.start, last - self.start)

    def keep(self, key: Any, first: int, last: int, make: Callable[[], np.ndarray]) -> np.ndarray:
        """What ``make`` gives, of any shape, made anew only where frames ``first`` to ``last`` have changed."""
        return make() if self.kept is None else self.kept(key, first, last, make)

    def block(self) -> np.ndarray:
        """The frames as the stage before left them, float32 ``(channels, frames)``."""
        return self.read(self.start, self.frames)


@dataclass(frozen=True, eq=False)
class Stage:
    """A step of rendering. Pure: any span comes out as the same span of the whole.

    ``name``: its own; ``after``: the names of stages that come before it, where there are such. ``treats``: the types
    of treatments that are its own.
    ``apply(at, mine)`` gives the frames; ``mine``: its treatments that touch them. ``reach(sample_rate)``: how far
    around a frame, in frames, it depends on what the stage before left. ``whole_span``: whether what it does to any
    frame of a treatment depends on all frames of that. ``cache_input``: whether it reads the same frames so often that
    what the stage before left is kept by tiles. ``fixed_blocks``: the last digits of its numbers depend on which frames
    it works on at once, so that these are always the same. ``slow``: it costs much and its treatments seldom change, so
    that it is rendered ahead, with all stages before it. ``joined(mine)``: what is done in place of all its treatments
    of a take, where some depend on others; a kind that has such has no others.
    ``remote_input(treatment, start, stop)``: the other frames, left by the stage before, that a treatment makes a span
    of. ``grows``: its treatments may reach past the end of the take, which is then heard up to there.
    ``still(still, mine)`` and ``power(power, survey, mine)`` tell from a survey's numbers what it leaves: of the bands
    of the still frames, and of the K-weighted power of all frames; both in place.
    """

    name: str
    treats: tuple[type, ...]
    apply: Callable[[At, Sequence[Any]], np.ndarray]
    after: tuple[str, ...] = ()
    reach: Callable[[int], int] = lambda _sample_rate: 0
    whole_span: bool = False
    cache_input: bool = False
    slow: bool = False
    fixed_blocks: bool = False
    grows: bool = False
    joined: Callable[[Sequence[Any]], Sequence[Treatment]] | None = None
    remote_input: Callable[[Any, int, int], tuple[int, int]] | None = None
    still: Callable[[Still, Sequence[Any]], None] | None = None
    power: Callable[[np.ndarray, Survey, Sequence[Any]], None] | None = None


@dataclass(eq=False)
class Still:
    """The still frames of a survey: ``power`` ``(still, bands)`` in their bands, and which ``frames`` they are."""

    survey: Survey
    power: np.ndarray
    frames: np.ndarray

    @property
    def centres(self) -> np.ndarray:
        """The middle of each band, ``(bands,)``, Hz."""
        edges = self.survey.band_edges
        return np.sqrt(edges[1:] * edges[:-1])


def touching(treatments: Sequence[Any], start: int, stop: int) -> list[Any]:
    """The treatments (in order of their first frame) that change a frame of a span."""
    end = bisect_left(treatments, stop, key=lambda t: t.first)
    return [t for t in treatments[:end] if t.last > max(start, t.first)]
