"""The settings of the Bleed pass, and what is known of a leak."""

from __future__ import annotations

from typing import Annotated

import msgspec
import numpy as np

from isophon.core.marks import Mark
from isophon.core.ranges import LONGEST_S, Key, Level, Name, Rate, Seconds

OWN_CLICK = "its own click"
MOST_CUES = 32
_LOUDEST = 1_000.0  # a tap of a path


class BleedSettings(msgspec.Struct, frozen=True):
    """What the Bleed pass does.

    ``much``: how much of the predicted leak is taken out, 0 to 1; ``careful``: how
    much of what the prediction missed is left for the voice's sake, 0 to 1;
    ``nudge_ms``: the cue moved later by hand before it is looked for;
    ``learn_from``, ``learn_to``: the span in s that the leak is learned from, both 0 for
    the moments in which it is heard best.
    """

    on: bool = True
    much: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 1.0
    careful: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5
    nudge_ms: Annotated[float, msgspec.Meta(ge=-2_000.0, le=2_000.0)] = 0.0
    learn_from: Annotated[float, msgspec.Meta(ge=0.0, le=LONGEST_S)] = 0.0
    learn_to: Annotated[float, msgspec.Meta(ge=0.0, le=LONGEST_S)] = 0.0

    @property
    def moments(self) -> tuple[tuple[float, float], ...]:
        """The spans in s to learn from; none: those in which the leak is heard best."""
        return ((self.learn_from, self.learn_to),) if self.learn_to > self.learn_from else ()


def role_default(role: str) -> BleedSettings:
    """The settings that a part of a role starts with."""
    return BleedSettings()


class Feed(msgspec.Struct, frozen=True):
    """One cue that a leak was learned from: the guide or part, and where it began against the take, in s."""

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


class BleedCut(msgspec.Struct, frozen=True):
    """The leak named ``key`` taken out over frames ``first`` to ``last`` (the whole take), the spans ``left`` aside."""

    first: int
    last: int
    key: str
    much: float
    careful: float
    left: tuple[tuple[int, int], ...] = ()
    edge: int = 240


def in_force(leak: Leak | None, settings: BleedSettings) -> str:
    """Which leak is taken out, and how much of it, in one word; empty where nothing is."""
    if leak is None or not leak.key or not settings.on or settings.much == 0:
        return ""
    return f"{leak.key} {settings.much:g} {settings.careful:g}"


def change_of(mark: Mark, settings: BleedSettings) -> float:
    """What is done to a hit of the leak, in dB ≤ 0, as it was measured with everything taken out."""
    return -round(settings.much * mark.over_room_db, 1) if settings.on and not mark.hand.leave else 0.0


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
