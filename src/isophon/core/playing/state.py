"""Numbers in memory that two processes see, and those that the process that plays tells the window by them."""

from __future__ import annotations

import mmap
import os
from collections.abc import Sequence

import numpy as np

LENGTH_BYTES = 8  # of a message, before it
LEVELS = ("true_peak", "momentary", "short_term", "sung_lufs", "cleaned_lufs", "taken_db", "matched_db", "limited_db")


def shared_memory(size: int) -> int:
    """A descriptor of new memory of so many bytes, all 0, that child processes may be given."""
    descriptor = os.memfd_create("isophon", os.MFD_CLOEXEC)
    os.ftruncate(descriptor, size)
    return descriptor


class Numbers:
    """Numbers by name at the start of some memory; each is written whole, by one side only."""

    def __init__(self, fields: Sequence[str], memory: mmap.mmap) -> None:
        self._places = {name: i for i, name in enumerate(fields)}
        self._values = np.frombuffer(memory, np.float64, len(fields))

    def __getitem__(self, name: str) -> float:
        return float(self._values[self._places[name]])

    def __setitem__(self, name: str, value: float) -> None:
        self._values[self._places[name]] = value


class State(Numbers):
    """How the playing stands.

    ``applied``: how many messages were carried out. ``position``: the frame heard now. ``playing``, ``preparing``,
    ``as_sung``: 0 or 1, as :class:`isophon.core.playing.player.Player` has them. ``version``: of the scene that is
    ready. ``peak``: the highest sample since ``peaks_read``, the window's, went up. ``blocks``, ``empty``, ``late``: as
    :class:`isophon.core.playing.ring.Ring` has them; so are the levels, ``LEVELS``.
    """

    FIELDS = ("applied", "position", "playing", "preparing", "as_sung", "version", "peak", "peaks_read", "blocks",
              "empty", "late", *LEVELS)  # fmt: skip

    def __init__(self, descriptor: int) -> None:
        self.descriptor = descriptor
        super().__init__(self.FIELDS, mmap.mmap(descriptor, 8 * len(self.FIELDS)))

    @classmethod
    def make(cls) -> State:
        """New numbers, all 0."""
        return cls(shared_memory(8 * len(cls.FIELDS)))
