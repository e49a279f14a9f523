"""What finders hear.

A take and its survey, and what several of them need, worked out once and when it is first asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from isophon.core.audio.lowrate import LowRate
from isophon.core.marks import Mark
from isophon.core.passes.esses.settings import LEFT_ALONE
from isophon.core.passes.kind import Found, Read
from isophon.core.passes.singing import singing
from isophon.core.survey import Survey


class Listened(Protocol):
    """What is read: a recording, or one without its leak."""

    sample_rate: int
    channels: int
    frames: int

    def read(self, start: int, frames: int) -> np.ndarray:
        """Samples, float32 ``(channels, frames)``, zeros outside."""

    def blocks(self, size: int = ...) -> Iterable[np.ndarray]:
        """All of them in order."""


LOW_HZ = 12_000
_LEAST_DB = -20.0  # what hisses softer beside a word may be a breath


class Ears:
    """A take as the finders hear it.

    ``kinds``: all kinds by name; what one found others may ask for by :meth:`marks`.
    """

    def __init__(self, recording: Listened, survey: Survey, kinds: Mapping[str, Any]) -> None:
        self.recording, self.survey, self._kinds = recording, survey, kinds
        self.sample_rate, self.channels, self.frames = recording.sample_rate, recording.channels, recording.frames
        self._found: dict[str, Found] = {}

    @property
    def read(self) -> Read:
        """Reads the take."""
        return self.recording.read

    def found(self, kind: str) -> Found:
        """What a kind finds."""
        if kind not in self._found:
            self._found[kind] = self._kinds[kind].find(self)
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
        sung = [m for m in self.marks("ess") if m.sound not in LEFT_ALONE or m.standout_db > _LEAST_DB]
        return singing(self.survey, [(m.start, m.end) for m in sung])

    def kept(self, name: str, make: Callable[[], Any]) -> Any:
        """Something that rooms share among themselves, made once."""
        if name not in self.__dict__:
            self.__dict__[name] = make()
        return self.__dict__[name]
