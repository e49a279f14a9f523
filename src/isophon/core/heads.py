"""The slow head: what the stages that cost much leave, rendered ahead in blocks and kept under the names of what they
were made by.

A block's name tells all that it depends on beside the recording, so that one whose name is known is right whatever else
has changed, and what was undone is found again.
"""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from concurrent.futures import Future

import msgspec
import numpy as np

from isophon.core.passes import STAGES
from isophon.core.passes.stage import Treatment

HEAD = max(level for level, stage in enumerate(STAGES) if stage.slow)
HEAD_BLOCK = 1 << 19  # frames
_HELD = 6  # blocks at once

_SLOW = tuple(treated for stage in STAGES[: HEAD + 1] for treated in stage.treats)

Kept = Callable[[str], np.ndarray | None]


def head_of(plan: Sequence[Treatment]) -> tuple[Treatment, ...]:
    """The treatments of a plan that are done ahead."""
    return tuple(treatment for treatment in plan if isinstance(treatment, _SLOW))


def name_of(index: int, treatments: Sequence[Treatment]) -> str:
    """The name of a block, by all treatments that it depends on; '' where nothing is done in it."""
    start, stop = index * HEAD_BLOCK, (index + 1) * HEAD_BLOCK
    if not any(t.first < stop and t.last > start for t in treatments):
        return ""
    description = msgspec.json.encode([index, *((type(t).__name__, t) for t in treatments)], enc_hook=float)
    return hashlib.sha256(description).hexdigest()[:32]


class Heads:
    """The blocks of one take. ``stored(name)``: one, float32 ``(channels, HEAD_BLOCK)``, None where it is not made."""

    def __init__(self, stored: Kept) -> None:
        self._kept = stored
        self._held: OrderedDict[str, Future[np.ndarray]] = OrderedDict()
        self._lock = threading.Lock()

    def block(self, name: str, make: Callable[[], np.ndarray] | None = None) -> np.ndarray | None:
        """The block of a name.

        Parameters
        ----------
        name : what it is made of.
        make : makes it where it is not there.

        Returns
        -------
        float32 ``(channels, HEAD_BLOCK)``; None where it is not there and ``make`` is not given.
        """
        with self._lock:
            held = self._held.get(name)
            mine = held is None
            if held is None:
                stored = self._kept(name)
                if stored is None and make is None:
                    return None
                held = self._held[name] = Future()
                if stored is not None:
                    held.set_result(stored)
            self._held.move_to_end(name)
            while len(self._held) > _HELD:
                self._held.popitem(last=False)
        if mine and make is not None and not held.done():
            try:
                held.set_result(make())
            except BaseException as error:  # noqa: BLE001 (raised again where it is waited for)
                with self._lock:
                    self._held.pop(name, None)
                held.set_exception(error)
        return held.result() if make is not None or held.done() else None
