"""What was learned of the leak of cues in a take, and the take without it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import msgspec
import numpy as np

from isophon.core.ranges import LONGEST_S, Key, Level, Name, Rate, Seconds, Share

OWN_CLICK = "its own click"
MOST_CUES = 32  # that a leak is learned from
_LOUDEST = 1_000.0  # a tap of a path
Sounds = tuple[np.ndarray, np.ndarray]


@dataclass(frozen=True, eq=False)
class Cue:
    """One reference: its name, samples ``(channels, n)``, rate, and where it begins against the take, in s."""

    name: str
    samples: np.ndarray
    rate: int
    offset_s: float = 0.0


class Feed(msgspec.Struct, frozen=True):
    """One cue that a leak was learned from: the reference or part, and where it began against the take, in s."""

    item: Name
    offset_s: Annotated[float, msgspec.Meta(ge=-2 * LONGEST_S, le=2 * LONGEST_S)]


class Leak(msgspec.Struct, frozen=True):
    """What was learned of the leak of cues in a take.

    ``key``: the name of its predicted sound beside the take's measurements; empty: no leak was found. ``cues``: what
    it was learned from. ``delay_s``, ``ppm``, ``clear``: see :class:`isophon.core.passes.bleed.sync.Sync`.
    ``less_db``: how much less is heard where only the leak sounds. ``path``: float32 taps at ``rate`` Hz, the first
    ``before_s`` before the delay, one path after another in ``ways``; ``lags``: (first, last) s of ``heights``, uint8,
    the correlation's picture. ``beat_s``: where the take's own click was learned, the shortest time between
    its beats, 0 otherwise; ``lags`` are then times between beats. ``feeds``, ``moments``: what it was learned from,
    so that it can be learned again.
    """

    key: Key
    cues: Annotated[tuple[Name, ...], msgspec.Meta(max_length=MOST_CUES)]
    delay_s: Seconds = 0.0
    ppm: Annotated[float, msgspec.Meta(ge=-10_000.0, le=10_000.0)] = 0.0
    clear: Annotated[float, msgspec.Meta(ge=-1e9, le=1e9)] = 0.0
    less_db: Level = 0.0
    rate: Rate = 24_000
    before_s: Seconds = 0.0
    path: Annotated[bytes, msgspec.Meta(max_length=1 << 22)] = b""
    ways: Annotated[int, msgspec.Meta(ge=1, le=2 * MOST_CUES)] = 1
    beat_s: Seconds = 0.0
    lags: tuple[Seconds, Seconds] = (0.0, 0.0)
    heights: Annotated[bytes, msgspec.Meta(max_length=1 << 16)] = b""
    feeds: Annotated[tuple[Feed, ...], msgspec.Meta(max_length=MOST_CUES)] = ()
    moments: Annotated[tuple[tuple[Seconds, Seconds], ...], msgspec.Meta(max_length=100)] = ()

    @property
    def own_click(self) -> bool:
        """Whether it is the take's own regular click."""
        return self.cues == (OWN_CLICK,)


class Removal(msgspec.Struct, frozen=True):
    """How a leak is taken out.

    ``much``: how much of what was predicted of it, 0 to 1; ``careful``: how much of what the prediction missed is left
    for the voice's sake, 0 to 1.
    """

    on: bool = True
    much: Share = 1.0
    careful: Share = 0.5

    def key(self, leak: Leak | None) -> str:
        """Which leak is taken out, and how much of it, in one word; empty where nothing is."""
        if leak is None or not leak.key or not self.on or self.much == 0:
            return ""
        return f"{leak.key} {self.much:g} {self.careful:g}"

    def apply(self, block: np.ndarray, start: int, sounds: Sounds) -> np.ndarray:
        """A span of a take without the leak.

        Parameters
        ----------
        block : ``(channels, n)``, the take's frames from ``start`` on.
        start : frame.
        sounds : what was predicted of the leak, and what that missed, ``(channels, frames)`` each.

        Returns
        -------
        ``(channels, n)``.
        """
        out = block.copy()
        first, last = max(0, start), min(sounds[0].shape[1], start + block.shape[1])
        if last > first:
            gone = sounds[0][:, first:last] + np.float32(1 - self.careful) * sounds[1][:, first:last]
            out[:, first - start : last - start] -= np.float32(self.much) * gone
        return out


def flaw_of(leak: Leak | None) -> str:
    """What is wrong with a leak that a file tells of, as ``field: what``; '' where nothing is."""
    if leak is None:
        return ""
    if len(leak.path) % (4 * leak.ways):
        return "path: does not fit its ways"
    path = np.frombuffer(leak.path, np.float32)
    if len(path) and not (np.isfinite(path).all() and np.abs(path).max() < _LOUDEST):
        return "path: holds numbers that are none"
    if any(end <= start or start < 0 for start, end in leak.moments):
        return "moments: are no spans"
    return ""
