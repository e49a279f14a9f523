"""The output device as the window sees it, and what the process that plays tells of it."""

from __future__ import annotations

import queue
from typing import TYPE_CHECKING, NamedTuple

import msgspec
import numpy as np

from isophon.core.playing.device import Output

if TYPE_CHECKING:
    from isophon.core.playing.remote import RemotePlayer


class Line(msgspec.Struct):
    """One line of the process: its device, or why it stopped, or what a simulated device played, or the outputs."""

    device: str = ""
    silent: bool = False
    rate: int = 0
    gone: str = ""
    outputs: list[Output] | None = None
    trouble: str = ""
    played: bytes | None = None


class Listening(NamedTuple):
    """How it is heard at the ears: ``sides`` is one of those of :mod:`.output`."""

    volume_db: float = 0.0
    sides: int = 0
    limited: bool = False


class RemoteDevice:
    """What is known of the device; ``name`` is empty until it is open. ``rate``: in Hz; ``gone``: the name of the one
    that was chosen and is not there, '' for none. ``outputs``: those that there were when they were asked for.
    """

    def __init__(self, player: RemotePlayer) -> None:
        self._player = player
        self.name, self.silent, self.rate, self.gone = "", False, 0, ""
        self.outputs: list[Output] = []
        self.answers: queue.SimpleQueue[bytes] = queue.SimpleQueue()

    def look(self) -> None:
        """Have it seen whether it is still there."""
        self._player.send("look")

    def list_outputs(self) -> None:
        """Have the outputs listed."""
        self._player.send("listed")

    def played(self) -> np.ndarray:
        """What a simulated device played lately, float32 ``(2, n)``; waits for it."""
        self._player.send("played")
        return np.frombuffer(self.answers.get(timeout=10.0), "<f4").reshape(2, -1)

    def clear(self) -> None:
        """Let a simulated device forget what it played."""
        self._player.send("unplayed")
