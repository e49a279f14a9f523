"""What the device asks for: the versions of a mix from the ring, with weights that glide; and its own process.

The process does nothing else, so that its blocks are in time whatever is rendered, found or painted meanwhile. Where
the system lets it, it goes before others.
"""

from __future__ import annotations

import contextlib
import gc
import os
import signal
import sys
import threading
import time
from multiprocessing.connection import Connection, Pipe
from typing import Any

import numpy as np

from isophon.core import log
from isophon.core.lifetime import end_with_parent
from isophon.core.playing.chunks import rise
from isophon.core.playing.device import open_device
from isophon.core.playing.ring import Ring
from isophon.core.playing.rough_chain import Amounts, RoughChain

_GLIDE_S, _LATE_S = 0.012, 0.005
_PRIORITY = 5  # of 99, among those that go before all others


class Output:
    """Fills a device's blocks at ``sample_rate`` Hz from a ring."""

    def __init__(self, ring: Ring, sample_rate: int) -> None:
        self._ring, self._rate = ring, sample_rate
        self._weights = self._wanted()
        self._gain, self._wet, self._peak, self._peaks_read = 0.0, 0.0, 0.0, ring["peaks_read"]
        self._chain: RoughChain | None = None
        self._due, self._sounds = 0.0, False
        ring["gain"] = ring["block"] = 0

    def fill(self, block: np.ndarray) -> None:
        """Write the next frames into ``block``, float32 ``(frames, 2)``; called by the device."""
        ring, now = self._ring, time.monotonic()
        late = 0 < self._due < now - _LATE_S
        self._due = now + len(block) / self._rate
        block[:] = 0.0
        playing = bool(ring["playing"])
        if not playing and self._gain == 0.0:
            self._sounds = False
            return
        ring["block"] = max(ring["block"], len(block))
        got = self._mix(block)
        goal = 1.0 if playing and got else 0.0
        if goal != self._gain:
            block *= self._gain + (goal - self._gain) * rise(len(block), len(block))
        self._measure(block)
        if playing:
            ring["blocks"] += 1
            ring["late"] += late
            ring["empty"] += self._sounds and got < len(block) and not ring["ends"]
        self._sounds |= got > 0
        self._gain = ring["gain"] = goal
        ring.wake()

    def _mix(self, block: np.ndarray) -> int:
        """What is there, and nothing after it; how many frames that were."""
        heard = self._ring.read(len(block))
        got = heard.sung.shape[1]
        if got:
            target = self._wanted()
            weights = self._weights + (target - self._weights) * rise(min(got, round(_GLIDE_S * self._rate)), got)
            for i, version in enumerate(heard):
                block[:got] += (version * weights[:, i]).T
            self._weights = target
            self._through_chain(block)
        return got

    def _wanted(self) -> np.ndarray:
        return np.array([self._ring[name] for name in ("sung", "cleaned", "rest")], np.float32)

    def _through_chain(self, block: np.ndarray) -> None:
        """Through the rough chain where it is wanted, which comes and goes softly."""
        wanted = self._ring["chained"]
        if wanted == 0.0 and self._wet == 0.0:
            self._chain = None
            return
        if self._chain is None:
            self._chain = RoughChain(self._rate)
        self._chain.amounts = Amounts(*(self._ring[name] for name in ("squeeze", "bright", "drive", "room")))
        wet = self._wet + (wanted - self._wet) * rise(len(block), len(block))
        block += wet * (self._chain.process(block) - block)
        self._wet = wanted

    def _measure(self, block: np.ndarray) -> None:
        asked = self._ring["peaks_read"]
        before = self._peak if asked == self._peaks_read else 0.0
        self._peaks_read = asked
        self._peak = self._ring["peak"] = max(before, float(np.abs(block).max(initial=0.0)))


class OutputProcess:
    """A device in a process of its own, forked from this one before it has threads; where it ends, so does this one.

    ``name``, ``silent``: of the device, once it is open.
    """

    def __init__(self, ring: Ring) -> None:
        self._ring = ring
        self.name, self.silent = "", False
        self._talk, its = Pipe()
        own = os.getpid()
        self._process = os.fork()
        if self._process == 0:
            self._talk.close()
            _run(ring, its, own)
        its.close()
        self._asked = threading.Lock()
        threading.Thread(target=self._end_with_it, name="output", daemon=True).start()

    def open(self, sample_rate: int) -> OutputProcess:
        """Open the device, which stays silent until the ring says otherwise."""
        self.name, self.silent = self._ask("open", sample_rate)
        return self

    def close(self) -> None:
        """Give the device back."""
        self._ask("close")

    def heard(self) -> np.ndarray:
        """What a simulated device played lately, float32 ``(2, n)``."""
        return self._ask("heard")

    def clear(self) -> None:
        """Let a simulated device forget what it played."""
        self._ask("clear")

    def _ask(self, *request: str | int) -> Any:
        with self._asked:
            self._talk.send(request)
            return self._talk.recv()

    def _end_with_it(self) -> None:
        os.waitpid(self._process, 0)
        log.note("the process that gives sound to the device ended")
        os._exit(1)


def _run(ring: Ring, talk: Connection, parent: int) -> None:
    """Be the process, to its end."""
    try:
        end_with_parent(parent)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        with open(os.devnull, "rb") as nothing:
            os.dup2(nothing.fileno(), 0)
        os.dup2(2, 1)
        gc.freeze()
        with contextlib.suppress(OSError):  # most systems let only some programs do that
            os.sched_setscheduler(0, os.SCHED_RR, os.sched_param(_PRIORITY))
        with contextlib.suppress(EOFError):
            _serve(ring, talk)
    except BaseException as error:
        log.trouble(error)
    finally:
        sys.stderr.flush()
        os._exit(0)


def _serve(ring: Ring, talk: Connection) -> None:
    """Answer requests until there is nobody to ask."""
    device: Any = None
    while True:
        what, *arguments = talk.recv()
        if what == "open":
            device = open_device(arguments[0], Output(ring, arguments[0]).fill)
            talk.send((device.name, device.silent))
        elif what == "heard":
            talk.send(device.heard())
        else:
            if device is not None:
                device.clear() if what == "clear" else device.close()
            talk.send(None)
