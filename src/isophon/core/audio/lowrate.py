"""A take at a low rate, made in one reading and kept out of memory where it is long."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from typing import IO

import numpy as np
import soxr

Read = Callable[[int, int], np.ndarray]

_READ = 1 << 18  # frames read at once
_IN_MEMORY_BYTES = 96 << 20  # more than that lies in a temporary file


class LowRate:
    """Samples of a take at ``rate`` Hz: :meth:`span` gives any of them, float32 ``(channels, n)``.

    What would take more than 96 MB lies in a nameless temporary file (in memory all the same
    where there is no room for that).
    """

    def __init__(self, read: Read, sample_rate: int, samples: int, channels: int, rate: int) -> None:
        self.rate, self.channels = min(rate, sample_rate), channels
        self._pieces: list[np.ndarray] = []
        self._store: IO[bytes] | None = None
        self.frames = 0
        self._gather(read, sample_rate, samples, -(-samples * self.rate // sample_rate))
        self._whole = np.concatenate(self._pieces) if self._pieces else np.zeros((0, channels), np.float32)
        self._pieces = []

    def _gather(self, read: Read, sample_rate: int, samples: int, expected: int) -> None:
        size = 4 * self.channels * expected
        if size > _IN_MEMORY_BYTES:
            try:
                store = tempfile.TemporaryFile(prefix="isophon-")  # noqa: SIM115 (it goes with this object)
                os.posix_fallocate(store.fileno(), 0, size)
                self._store = store
            except OSError:
                pass  # memory it is
        stream = soxr.ResampleStream(sample_rate, self.rate, self.channels, "float32", "MQ")
        for at in range(0, samples, _READ):
            block = np.ascontiguousarray(read(at, min(_READ, samples - at)).T)
            if self.rate != sample_rate:
                block = stream.resample_chunk(block, last=at + _READ >= samples).reshape(-1, self.channels)
            self.frames += len(block)
            if self._store is not None:
                self._store.write(block.astype(np.float32).tobytes())
            else:
                self._pieces.append(block)
        if self._store is not None:
            self._store.flush()

    def span(self, first: int, last: int) -> np.ndarray:
        """Samples ``first`` to ``last``, limited to the take, float32 ``(channels, last - first)``."""
        first, last = max(0, first), min(self.frames, last)
        if self._store is None:
            return self._whole[first:last].T
        width = 4 * self.channels
        data = os.pread(self._store.fileno(), max(0, last - first) * width, first * width)
        return np.frombuffer(data, np.float32).reshape(-1, self.channels).T
