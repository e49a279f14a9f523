"""What the device asks for: the versions of a mix from the ring, with weights that glide; and its own process.

The process does nothing else, so that its blocks are in time whatever is rendered, found or painted meanwhile. Where
the system lets it, it goes before others.
"""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import signal
import sys
import threading
import time
from multiprocessing.connection import Connection, Pipe
from typing import Any

import numpy as np

from isophon.core.lifetime import end_with_parent
from isophon.core.log import INSIDE
from isophon.core.playing.chunks import rise
from isophon.core.playing.device import SYSTEMS_OWN, Wanted
from isophon.core.playing.device import Output as Listed
from isophon.core.playing.gauge import SHORT_TERM, Gauge
from isophon.core.playing.limiter import Limiter
from isophon.core.playing.mix import Mix
from isophon.core.playing.openings import Opened, Openings
from isophon.core.playing.ring import Ring
from isophon.core.playing.rough_chain import RoughChain
from isophon.core.session.chain import NAMES, Chain

_log = logging.getLogger(__name__)

VERSIONS = ("sung", "cleaned", "rest")
STEREO, MONO, LEFT, RIGHT = range(4)
SIDES = np.array([[[1, 0], [0, 1]], [[0.5, 0.5], [0.5, 0.5]], [[1, 0], [0, 0]], [[0, 0], [0, 1]]], np.float32)
_AS_IT_IS = SIDES[STEREO]
_GLIDE_S = 0.012  # s in which a volume changes
_LATE_S = 0.005  # s after which a block counts as late
_PRIORITY = 5  # of 99, among those that go before all others


class Output:
    """Fills a device's blocks at ``sample_rate`` Hz from a ring."""

    def __init__(self, ring: Ring, sample_rate: int) -> None:
        self._ring, self._rate = ring, sample_rate
        self._weights = np.array([ring[name] for name in VERSIONS], np.float32)
        self._gain, self._wet, self._peak, self._peaks_read = 0.0, 0.0, 0.0, ring["peaks_read"]
        self._true_peak, self._volume = 0.0, _AS_IT_IS
        self._chain: RoughChain | None = None
        self._limiter: Limiter | None = None
        self._gauge, self._forgets = Gauge(sample_rate), ring["forgets"]
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
        self._at_the_ears(block)
        if goal != self._gain:  # after the limiter, which is late, so that it ends in silence
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
        mix = self._ring.read(len(block))
        got = mix.sung.shape[1]
        if got:
            target = self._wanted()
            weights = self._weights + (target - self._weights) * rise(min(got, round(_GLIDE_S * self._rate)), got)
            for i, version in enumerate(mix):
                block[:got] += (version * weights[:, i]).T
            self._weights = target
            self._through_chain(block)
            self._gauge_it(block, mix, got)
        return got

    def _wanted(self) -> np.ndarray:
        """The weights of the versions; cleaned as loud as as sung, where that is asked for."""
        weights = [self._ring[name] for name in VERSIONS]
        if self._ring["match"] and weights[1] > 0:
            first_db = 20 * np.log10(weights[1])
            weights[1] = 10 ** (self._gauge.matched_db(float(first_db)) / 20)
        return np.array(weights, np.float32)

    def _gauge_it(self, block: np.ndarray, mix: Mix, got: int) -> None:
        """Measure what is heard, and what it is compared with."""
        ring, gauge = self._ring, self._gauge
        if ring["forgets"] != self._forgets:
            self._forgets = ring["forgets"]
            gauge.forget()
        gauge.add(block[:got].T, mix.sung, mix.cleaned, int(ring["match_steps"]) or SHORT_TERM)
        for name in ("momentary", "short_term", "taken_db"):
            ring[name] = getattr(gauge, name)
        ring["sung_lufs"], ring["cleaned_lufs"] = gauge.sung, gauge.cleaned
        ring["matched_db"] = gauge.matched_db(0.0)
        self._true_peak = max(self._true_peak, gauge.true_peak)

    def _at_the_ears(self, block: np.ndarray) -> None:
        """Volume, which sides are heard, and the limiter: what no measure of the mix is to know of."""
        ring = self._ring
        wanted = SIDES[int(ring["sides"])] * np.float32(10 ** (ring["volume_db"] / 20))
        if not np.array_equal(wanted, _AS_IT_IS) or not np.array_equal(self._volume, _AS_IT_IS):
            share = rise(len(block), len(block))
            block[:] = block @ self._volume.T * (1 - share) + block @ wanted.T * share
            self._volume = wanted
        if not ring["limited"]:
            self._limiter = None
            ring["limited_db"] = 0.0
            return
        if self._limiter is None:
            self._limiter = Limiter(self._rate)
        block[:] = self._limiter.process(block)
        ring["limited_db"] = self._limiter.taken_db

    def _through_chain(self, block: np.ndarray) -> None:
        """Through the rough chain where it is wanted, which comes and goes softly."""
        wanted = self._ring["chained"]
        if wanted == 0.0 and self._wet == 0.0:
            self._chain = None
            return
        if self._chain is None:
            self._chain = RoughChain(self._rate)
        self._chain.chain = Chain(*(self._ring[name] for name in NAMES))
        wet = self._wet + (wanted - self._wet) * rise(len(block), len(block))
        block += wet * (self._chain.process(block) - block)
        self._wet = wanted

    def _measure(self, block: np.ndarray) -> None:
        asked = self._ring["peaks_read"]
        if asked != self._peaks_read:
            self._peaks_read, self._peak, self._true_peak = asked, 0.0, self._gauge.true_peak
        self._peak = self._ring["peak"] = max(self._peak, float(np.abs(block).max(initial=0.0)))
        self._ring["true_peak"] = self._true_peak


class OutputProcess:
    """A device in a process of its own, forked from this one before it has threads; where it ends, so does this one.

    ``opened``: what is known of the device that is open.
    """

    def __init__(self, ring: Ring) -> None:
        self._ring = ring
        self.opened = Opened()
        self._talk, its = Pipe()
        own = os.getpid()
        self._process = os.fork()
        if self._process == 0:
            self._talk.close()
            _run(ring, its, own)
        its.close()
        self._asked = threading.Lock()
        threading.Thread(target=self._end_with_it, name="output", daemon=True).start()

    @property
    def name(self) -> str:
        """The device's; '' before it is open."""
        return self.opened.name

    @property
    def silent(self) -> bool:
        """Whether nothing is heard of it."""
        return self.opened.silent

    def open(self, sample_rate: int, wanted: Wanted = SYSTEMS_OWN) -> OutputProcess:
        """Open the device that is wanted, which stays silent until the ring says otherwise."""
        self.opened = self._ask("open", sample_rate, wanted)
        return self

    def look(self) -> Opened:
        """See whether the device is still there, and open another where it is not."""
        self.opened = self._ask("look")
        return self.opened

    def listed(self) -> list[Listed]:
        """The outputs that there are."""
        return self._ask("listed")

    def close(self) -> None:
        """Give the device back."""
        self._ask("close")

    def played(self) -> np.ndarray:
        """What a simulated device played lately, float32 ``(2, n)``."""
        return self._ask("heard")

    def clear(self) -> None:
        """Let a simulated device forget what it played."""
        self._ask("clear")

    def _ask(self, *request: Any) -> Any:
        with self._asked:
            self._talk.send(request)
            return self._talk.recv()

    def _end_with_it(self) -> None:
        os.waitpid(self._process, 0)
        _log.warning("the process that gives sound to the device ended")
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
    except BaseException as error:  # noqa: BLE001 (a process ends here)
        _log.error(INSIDE, error, exc_info=error)
    finally:
        sys.stderr.flush()
        os._exit(0)


def _serve(ring: Ring, talk: Connection) -> None:
    """Answer requests until there is nobody to ask."""
    openings = Openings()
    while True:
        what, *arguments = talk.recv()
        idle = ring["gain"] == 0.0 and not ring["playing"]
        if what == "open":
            rate, wanted = arguments
            talk.send(openings.open(rate, Output(ring, rate).fill, wanted))
        elif what in ("look", "listed"):
            talk.send(openings.look(idle) if what == "look" else openings.listed(idle))
        elif what == "heard":
            talk.send(openings.device.played())
        else:
            if openings.device is not None:
                openings.device.clear() if what == "clear" else openings.close()
            talk.send(None)
