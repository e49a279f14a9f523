"""The ring between the player, which fills it ahead, and the output, which reads it: memory that two processes see."""

from __future__ import annotations

import mmap
import os

import numpy as np

from isophon.core.playing.mix import Mix
from isophon.core.playing.state import LEVELS, Numbers, shared_memory
from isophon.core.session.chain import NAMES

FRAMES = 1 << 17  # more than is ever queued
_SHAPE = (3, 2, FRAMES)
_HEAD_BYTES = 4_096  # before the samples: where both sides are


class Ring(Numbers):
    """Versions of a mix, ``FRAMES`` frames of each, and numbers.

    The player writes ``written`` (frames appended since the beginning), ``playing``, ``ends`` (1: no more will come),
    the weights ``sung``, ``cleaned`` and ``rest`` of the versions, ``match`` (1: cleaned as loud as as sung, by the
    last ``match_steps`` steps of 0.1 s; 0: 3 s) and ``forgets`` (goes up where those are of no more use), ``chained``
    (1: through the rough chain) with the chain's numbers, ``volume_db``, ``sides`` and ``limited`` of listening, and
    ``peaks_read``. The output writes ``read`` (frames), ``gain`` (0: silent), ``block`` (frames of the
    longest block asked for), ``peak`` and ``true_peak`` (the highest since ``peaks_read`` changed), the levels of
    :class:`isophon.core.playing.gauge.Gauge`, ``matched_db``, ``limited_db`` (what the limiter takes off), ``blocks``
    (those it was asked
    for while it played), ``empty`` (those that were not full, once it sounded) and ``late`` (asked for more than 5 ms
    after the one before was over).
    """

    FIELDS = ("written", "playing", "ends", "sung", "cleaned", "rest", "match", "match_steps", "forgets", "chained",
              *NAMES, "volume_db", "sides", "limited", "peaks_read", "read", "gain", "block", "peak", "blocks", "empty",
              "late", *LEVELS)  # fmt: skip

    def __init__(self) -> None:
        descriptor = shared_memory(_HEAD_BYTES + 4 * int(np.prod(_SHAPE)))
        memory = mmap.mmap(descriptor, 0)
        os.close(descriptor)
        super().__init__(self.FIELDS, memory)
        self._versions = np.frombuffer(memory, np.float32, offset=_HEAD_BYTES).reshape(_SHAPE)
        self._moved = os.eventfd(0, os.EFD_CLOEXEC)

    # the player's side

    def append(self, mix: Mix) -> int:
        """Let a piece follow what is there; returns the number of its first frame, counted from the beginning."""
        at = int(self["written"])
        for version, samples in zip(self._versions, mix, strict=True):
            for places, piece in _pieces(at, samples.shape[1]):
                version[:, places] = samples[:, piece]
        self["written"] = at + mix.sung.shape[1]
        return at

    def take_back(self, at: int) -> None:
        """Let what was appended from a frame on not be read, as far as it was not read yet."""
        self["written"] = max(at, int(self["read"]))

    def wait(self) -> None:
        """Until the output has read something."""
        os.eventfd_read(self._moved)

    def wake(self) -> None:
        """End a :meth:`wait`."""
        os.eventfd_write(self._moved, 1)

    # the output's side

    def read(self, frames: int) -> Mix:
        """So many frames, or as many as are there."""
        at = int(self["read"])
        count = max(0, min(frames, int(self["written"]) - at))
        mix = Mix(*(np.empty((2, count), np.float32) for _ in range(3)))
        for version, samples in zip(self._versions, mix, strict=True):
            for places, piece in _pieces(at, count):
                samples[:, piece] = version[:, places]
        self["read"] = at + count
        return mix


def _pieces(at: int, count: int) -> list[tuple[slice, slice]]:
    """Where so many frames from a number on lie in the ring, and where in a piece of their own."""
    place = at % FRAMES
    first = min(count, FRAMES - place)
    pieces = [(slice(place, place + first), slice(0, first))]
    return pieces if first == count else [*pieces, (slice(0, count - first), slice(first, count))]
