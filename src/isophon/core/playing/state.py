"""What the sound process tells the window again and again: a few numbers in memory that both see."""

from __future__ import annotations

import mmap
import os

import numpy as np

FIELDS = ("applied", "position", "playing", "preparing", "as_sung", "version", "peak", "peaks_read", "blocks", "empty",
          "late")  # fmt: skip
LENGTH_BYTES = 8  # of a message, before it
_BYTES = 8 * len(FIELDS)


class State:
    """Numbers by name; each is written whole, by one side only.

    ``applied``: how many messages were carried out. ``position``: the frame heard now. ``playing``, ``preparing``,
    ``as_sung``: 0 or 1, as :class:`isophon.core.playing.player.Player` has them. ``version``: of the scene that is
    ready. ``peak``: the highest sample since ``peaks_read``, the window's, went up. ``blocks``: blocks given to the
    device while it played; ``empty``: those that were not full; ``late``: those asked for more than 5 ms after the one
    before was over.
    """

    def __init__(self, descriptor: int) -> None:
        self.descriptor = descriptor
        self._memory = mmap.mmap(descriptor, _BYTES)
        self._values = np.frombuffer(self._memory, np.float64)

    @classmethod
    def make(cls) -> State:
        """New numbers, all 0."""
        descriptor = os.memfd_create("isophon", os.MFD_CLOEXEC)
        os.ftruncate(descriptor, _BYTES)
        return cls(descriptor)

    def __getitem__(self, name: str) -> float:
        return float(self._values[FIELDS.index(name)])

    def __setitem__(self, name: str, value: float) -> None:
        self._values[FIELDS.index(name)] = value
