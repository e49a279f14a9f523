"""A simulated output device for machines without one: it asks for blocks by the clock and keeps them a while."""

from __future__ import annotations

import os
import threading
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path

import numpy as np

BLOCK = 480  # no divisor of what the player makes at once, as with most real devices
_KEPT_S = 20.0  # s of what was played that are kept

Fill = Callable[[np.ndarray], None]


class ClockedDevice:
    """Calls ``fill(block)`` in real time with float32 arrays ``(BLOCK, 2)`` to be filled.

    Where it comes too late it goes on from there, as a device does, and does not ask at once for all it missed.
    ``heard()`` gives what was played lately, float32 ``(2, n)``. ``name``: of one of the :func:`simulated` devices,
    which is gone as soon as those do not name it any more; '' for the one that is always there.
    """

    def __init__(self, sample_rate: int, fill: Fill, name: str = "") -> None:
        self.sample_rate = self.rate = sample_rate
        self.name, self.silent = name or "no sound device: a silent clock plays", not name
        self._simulates = name
        self._fill = fill
        self._blocks: deque[np.ndarray] = deque(maxlen=max(1, round(_KEPT_S * sample_rate / BLOCK)))
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="clocked device", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        due = time.monotonic()
        while not self._stop.is_set():
            if not self.alive:
                self._stop.wait(0.02)
                continue
            block = np.zeros((BLOCK, 2), np.float32)
            self._fill(block)
            self._blocks.append(block)
            due = max(due + BLOCK / self.sample_rate, time.monotonic() - BLOCK / self.sample_rate)
            self._stop.wait(max(0.0, due - time.monotonic()))

    @property
    def alive(self) -> bool:
        """Whether it is still there."""
        return not self._simulates or any(name == self._simulates for name, _ in simulated())

    def played(self) -> np.ndarray:
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


def simulated() -> list[tuple[str, int]]:
    """The devices that are simulated: names and rates in Hz, one a line of the file that ISOPHON_DEVICES names.

    Taking a line out of it is pulling a plug.
    """
    path = os.environ.get("ISOPHON_DEVICES")
    if not path:
        return []
    try:
        lines = Path(path).read_text().splitlines()
    except OSError:
        return []
    rows = [line.rsplit(" ", 1) for line in lines]
    return [(row[0], int(row[1])) for row in rows if len(row) == 2 and row[1].isdecimal() and 0 < int(row[1]) < 1e6]
