"""What finders work on.

A take and its survey, and what several of them need, worked out once and when it is first asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from isophon.core.audio.files import BLOCK, Readable, all_samples
from isophon.core.audio.lowrate import LowRate
from isophon.core.marks import Mark
from isophon.core.passes.kind import Found
from isophon.core.passes.singing import singing
from isophon.core.passes.stage import Read
from isophon.core.survey import Survey


class Listened(Readable, Protocol):
    """What is read: a recording, or one without its leak."""

    sample_rate: int

    def read(self, start: int, frames: int) -> np.ndarray:
        """Samples, float32 ``(channels, frames)``, zeros outside."""


class Recorded(Listened, Protocol):
    """The same with the file that it is in."""

    path: Path


LOW_HZ = 12_000  # Hz: the low rate at which hum and bands are looked for
_HELD_BYTES = 64_000_000  # a take as long as this is held in memory while it is heard


class Held:
    """A recording with all of its samples in memory, for finders that each go through the whole of it."""

    def __init__(self, recording: Listened) -> None:
        self.sample_rate, self.channels, self.frames = recording.sample_rate, recording.channels, recording.frames
        self._samples = all_samples(recording)

    def read(self, start: int, frames: int) -> np.ndarray:
        """As :meth:`Listened.read`."""
        out = np.zeros((self.channels, max(0, frames)), np.float32)
        first, last = max(0, start), min(self.frames, start + frames)
        if last > first:
            out[:, first - start : last - start] = self._samples[:, first:last]
        return out

    def blocks(self, size: int = BLOCK) -> Iterator[np.ndarray]:
        """As :meth:`Listened.blocks`."""
        for start in range(0, self.frames, size):
            yield self._samples[:, start : start + size].copy()


def held(recording: Listened) -> Listened:
    """A recording with all of its samples in memory, where they take little enough."""
    small = 4 * recording.channels * recording.frames <= _HELD_BYTES
    return Held(recording) if small and not isinstance(recording, Held) else recording


class FinderContext:
    """A take as the finders have it.

    ``kinds``: all kinds by name; what one found others may ask for by :meth:`marks`.
    """

    def __init__(self, recording: Listened, survey: Survey, kinds: Mapping[str, Any]) -> None:
        self.recording, self.survey, self._kinds = held(recording), survey, kinds
        self.sample_rate, self.channels, self.frames = recording.sample_rate, recording.channels, recording.frames
        self._found: dict[str, Found] = {}

    @property
    def read(self) -> Read:
        """Reads the take."""
        return self.recording.read

    def found(self, kind: str) -> Found:
        """What a kind finds."""
        if kind not in self._found:
            self._found[kind] = self._kinds[kind].finder.find(self)
        return self._found[kind]

    def marks(self, kind: str) -> tuple[Mark, ...]:
        """The marks that a kind finds."""
        return self.found(kind).marks

    def measured(self, kind: str, name: str) -> Any:
        """What a kind measured of the whole take."""
        return self.found(kind).measured[name]

    @cached_property
    def low(self) -> LowRate:
        """The take at 12 kHz."""
        return LowRate(self.read, self.sample_rate, self.frames, self.channels, LOW_HZ)

    @cached_property
    def singing(self) -> list[tuple[float, float]]:
        """The stretches of singing, (start, end) in s."""
        return singing(self.survey, self.sung)

    @cached_property
    def sung(self) -> list[tuple[float, float]]:
        """The spans (s) of what is found to be sung without a pitch."""
        return [span for name, kind in self._kinds.items() if kind.finder.sung
                for span in kind.finder.sung(self.marks(name))]  # fmt: skip

    def kept(self, name: str, make: Callable[[], Any]) -> Any:
        """Something that rooms share among themselves, made once."""
        if name not in self.__dict__:
            self.__dict__[name] = make()
        return self.__dict__[name]
