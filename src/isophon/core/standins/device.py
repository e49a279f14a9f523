"""A simulated output device for machines without one: it asks for blocks by the clock and keeps them a while."""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable

import numpy as np

BLOCK = 480  # no divisor of what the player makes at once, as with most real devices
_KEPT_S = 20.0

Fill = Callable[[np.ndarray], None]


class ClockedDevice:
    """Calls ``fill(block)`` in real time with float32 arrays ``(BLOCK, 2)`` to be filled.

    Where it comes too late it goes on from there, as a device does, and does not ask at once for all it missed.
    ``heard()`` gives what was played lately, float32 ``(2, n)``.
    """

    name = "no sound device: a silent clock plays"
    silent = True

    def __init__(self, sample_rate: int, fill: Fill) -> None:
        self.sample_rate = sample_rate
        self._fill = fill
        self._blocks: deque[np.ndarray] = deque(maxlen=max(1, round(_KEPT_S * sample_rate / BLOCK)))
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="clocked device", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        due = time.monotonic()
        while not self._stop.is_set():
            block = np.zeros((BLOCK, 2), np.float32)
            self._fill(block)
            self._blocks.append(block)
            due = max(due + BLOCK / self.sample_rate, time.monotonic() - BLOCK / self.sample_rate)
            self._stop.wait(max(0.0, due - time.monotonic()))

    def heard(self) -> np.ndarray:
        """The last seconds played, float32 ``(2, n)``."""
        blocks = list(self._blocks)
        return np.concatenate(blocks).T if blocks else np.zeros((2, 0), np.float32)

    def clear(self) -> None:
        """Forget what was played."""
        self._blocks.clear()

    def close(self) -> None:
        """Stop the clock."""
        self._stop.set()
        self._thread.join(timeout=1.0)
