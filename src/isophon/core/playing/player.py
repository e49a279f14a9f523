"""Plays a mix as sung, cleaned, or what was taken out, switching without a click or losing the place.

A feeder thread mixes all versions a little ahead into a ring, out of what a second one has rendered; where that is not
ready in time, a part is heard as it was last, else as sung, never as silence. The output (:mod:`.output`) reads the
ring and mixes the versions with weights that glide. Where the play jumps (loop, seek) or the scene changes, the feeder
fades from what would have come to what comes now.
"""

from __future__ import annotations

import logging
import math
import threading
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from isophon.core.errors import IsophonError
from isophon.core.log import INSIDE
from isophon.core.playing.ahead import AheadMaker, Coming
from isophon.core.playing.chunks import CHUNK, SHORTEST_LOOP, Chunk, Wanted, make_chunk, slower, span_of
from isophon.core.playing.gauge import LONGEST, MOMENTARY, STEP_S
from isophon.core.playing.heard_as import HeardAs
from isophon.core.playing.mix import Scene
from isophon.core.playing.queue import ChunkQueue
from isophon.core.playing.readiness import Readiness
from isophon.core.playing.ring import Ring

_log = logging.getLogger(__name__)

AHEAD, FAR_AHEAD, _CALM_S = 16, 64, 0.5  # chunks: a tile, and where nothing was changed for a while
_HEARD_ON = CHUNK  # frames at least of what was heard before a change, some 20 ms: the machine may stop for a moment
_LOW, _PATIENCE_S, _LOOK_S = 4, 0.04, 0.005  # chunks; how long a sound may be waited for after a jump


class Player:
    """The playing of a scene of ``samples`` frames at ``sample_rate`` Hz through a device.

    ``heard_as``: which of its versions are heard, and how. ``trouble``: why the last playing stopped by itself, or ''.
    ``open_device(sample_rate, ring)`` gives something with ``name``, ``silent`` and ``close()`` that plays what is in
    the ring. ``on_change``: called whenever something was played, queued or failed.
    """

    def __init__(
        self, sample_rate: int, samples: int, open_device: Callable[[int, Ring], Any], ring: Ring | None = None,
        on_change: Callable[[], None] = lambda: None,
    ) -> None:  # fmt: skip
        self.sample_rate, self._samples = sample_rate, samples
        self._ring, self._on_change = ring or Ring(), on_change
        self._scene: Scene = ()
        self._faded_from: Scene | None = None
        self._version = 0
        self._loop: tuple[int, int] | None = None
        self._next = 0
        self._jump_from: int | None = None
        self._queue = ChunkQueue(self._ring)
        self._readiness = Readiness(sample_rate)
        self._patient_until = self._dropped_at = 0.0
        self._speed, self._once = 1.0, False
        self._owed = 0  # frames by which slow playing is ahead of its time
        self._closed, self._failed = False, False
        self.trouble = ""
        self._work = threading.Condition()
        self._ring["playing"], self._ring["gain"] = 0, 0
        self._ring.take_back(0)
        self.heard_as = HeardAs(self._ring)
        maker = AheadMaker(self._work, self._readiness, self._coming, self._fail)
        self._threads = [
            threading.Thread(target=work, name=f"player {name}", daemon=True)
            for name, work in (("feeder", self._feed), ("maker", maker.run), ("watcher", self._watch))
        ]
        for thread in self._threads:
            thread.start()
        self.device = open_device(sample_rate, self._ring)

    # what a person asks for

    @property
    def playing(self) -> bool:
        """Whether sound is asked for."""
        return bool(self._ring["playing"])

    @property
    def preparing(self) -> bool:
        """Whether sound is asked for and none of it is there yet."""
        return self.playing and not self.queued

    @property
    def queued(self) -> int:
        """How many pieces are there to be heard."""
        with self._work:
            self._follow()
            return len(self._queue.chunks)

    @property
    def as_sung_for_now(self) -> bool:
        """Whether what is heard is not all as it is to be, since that is still being rendered."""
        return self.playing and self._queue.for_now

    @property
    def scene(self) -> Scene:
        """What is heard."""
        return self._scene

    @property
    def position(self) -> int:
        """The frame heard now."""
        with self._work:
            self._follow()
            return self._queue.position(self._speed)

    def play(self) -> None:
        """Go on from the place."""
        with self._work:
            self._ring["playing"], self._failed, self.trouble = 1, False, ""
            self._patient_until = time.monotonic() + _PATIENCE_S
            self._go_on()

    def stop(self) -> None:
        """Fade out and keep the place."""
        self._ring["playing"] = 0

    def seek(self, frame: int) -> None:
        """Go to a frame of the mix."""
        with self._work:
            self._restart(int(np.clip(frame, 0, max(0, self._samples - 1))))

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Play only these frames, again and again; None: to the end."""
        with self._work:
            self._once = False
            self._loop = loop if loop and loop[1] - loop[0] > SHORTEST_LOOP else None
            steps = (self._loop[1] - self._loop[0]) / self.sample_rate / STEP_S if self._loop else 0.0
            self._ring["match_steps"] = min(max(math.ceil(steps), MOMENTARY), LONGEST) if steps else 0
            self._ring["forgets"] += 1
            target = self._target_of_jump()
            place = self._queue.position(self._speed) if target is None else target
            if self._loop and not self._loop[0] <= place < self._loop[1]:
                self._restart(self._loop[0])
            else:
                self._drop()

    def play_once(self, first: int, last: int) -> None:
        """Play these frames, and stop."""
        self.set_loop((first, last))
        with self._work:
            self._once = self._loop is not None
            self._restart(first)
        self.play()

    def set_speed(self, speed: float) -> None:
        """Play at a part of the speed, above 0 to 1, at the same pitch."""
        with self._work:
            self._speed = float(np.clip(speed, 0.25, 1.0))
            self._drop()

    def set_scene(self, scene: Scene, samples: int | None = None) -> int:
        """What is heard from now on; returns the version that :meth:`ready` waits for. ``samples``: a new length."""
        with self._work:
            self._samples = self._samples if samples is None else samples
            if scene != self._scene:
                self._faded_from = self._scene if self._faded_from is None else self._faded_from
                self._scene = scene
                self._version += 1
                self._failed = False
                self._drop()
            return self._version

    def ready(self, version: int, timeout: float) -> bool:
        """Wait until samples of a version are there for the device; whether they are."""
        with self._work:
            return self._work.wait_for(lambda: self.is_ready(version), timeout)

    def is_ready(self, version: int) -> bool:
        """Whether samples of a version are there for the device."""
        return self._queue.is_ready(version)

    def peak(self) -> float:
        """Highest sample since the last call."""
        peak = self._ring["peak"]
        self._ring["peaks_read"] += 1
        return peak

    def close(self) -> None:
        """Give the device back and end the threads."""
        self._ring["playing"] = 0
        self.device.close()
        with self._work:
            self._closed = True
            self._work.notify_all()
        self._ring.wake()
        for thread in self._threads:
            thread.join(timeout=2.0)

    # the output's side

    def _watch(self) -> None:
        """Follow what the output reads."""
        while not self._closed:
            self._ring.wait()
            with self._work:
                self._follow()
                self._go_on()
            self._on_change()

    def _follow(self) -> None:
        """Take note of what was read."""
        ring = self._ring
        self._queue.follow()
        if self.playing and not self._queue.chunks and self._nothing_follows():
            ring["playing"] = 0
        if not self.playing and ring["gain"] == 0.0:
            self._arrive()

    def _heard(self) -> bool:
        """Whether the output is reading, or may begin to."""
        return self.playing or self._ring["gain"] > 0

    def _nothing_follows(self) -> bool:
        if self._loop:
            return self._once and self._next >= self._loop[1]
        return self._next >= self._samples

    def _go_on(self) -> None:
        """Let all that wait look again."""
        self._ring["ends"] = self._nothing_follows()
        self._work.notify_all()

    # the feeder's side

    def _restart(self, frame: int) -> None:
        """Jump: what is queued is given up, but for the chunks that are heard until the new place is there."""
        self._drop()
        if self._heard() and self._jump_from is None:
            self._jump_from = self._next
        self._next = frame
        self._patient_until = time.monotonic() + (0 if self._ring["gain"] > 0 else _PATIENCE_S)
        if not self._queue.chunks:
            self._queue.be_at(frame)
        self._go_on()

    def _arrive(self) -> None:
        """Once it is silent: be where a jump that was asked for meanwhile leads, without the rest of the old place."""
        target = self._target_of_jump()
        if target is not None:
            self._queue.clear()
            self._ring.take_back(0)
            self._next, self._jump_from = target, None
            self._queue.be_at(target)
            self._go_on()

    def _target_of_jump(self) -> int | None:
        """Where a jump leads that was asked for and is not heard yet."""
        return self._queue.jump_target() if self._jump_from is None else self._next

    def _drop(self) -> None:
        """Render the chunks again, but for those that are heard on; a jump to be heard after them stays one."""
        self._follow()
        target: int | None = None
        read, block = int(self._ring["read"]), int(self._ring["block"])
        heard_on = read + max(_HEARD_ON, 2 * block) if self._heard() else read
        self._dropped_at = time.monotonic()
        if self._jump_from is not None:
            target, self._next, self._jump_from = self._next, self._jump_from, None
        given_up = self._queue.give_up_from(heard_on)
        target = given_up.target if target is None else target
        self._next = self._next if given_up.goes_on is None else given_up.goes_on
        if self._queue.chunks and not self._heard():  # nobody hears it: nothing of it need be played to its end
            self._queue.chunks.pop()
            self._next = self._queue.position(self._speed)
        self._ring.take_back(self._queue.ends)
        if target is not None:
            self._jump_from, self._next = (self._next if self._heard() else None), target
        self._go_on()

    def _feed(self) -> None:
        while True:
            with self._work:
                self._work.wait_for(lambda: self._closed or self._wanted())
                if self._closed:
                    return
                state, last = self._state(), self._queue.last
            try:
                rendered = self._render(state, last.ends if last else None)
            except Exception as error:  # noqa: BLE001 (whatever it is, what is shown must stay true)
                self._fail(error)
                continue
            with self._work:
                if rendered is not None and state == self._state():
                    chunk, self._next = rendered
                    self._queue.add(chunk)
                    self._jump_from, self._faded_from = None, None
                    self._go_on()
            self._on_change()

    def _coming(self) -> Coming | None:
        """What is heard next; None: nothing more, the player is closed."""
        if self._closed:
            return None
        return Coming(self._scene, self._next, self._loop, self._samples, self._failed)

    def _fail(self, error: Exception) -> None:
        """Stop, and keep why; playing again tries again."""
        _log.error(INSIDE, error, exc_info=error)
        with self._work:
            self._ring["playing"], self._failed = 0, True
            words = f"an error inside Isophon stopped the playing ({type(error).__name__}: {error})"
            self.trouble = str(error) if isinstance(error, IsophonError) else words
        self._on_change()

    def _state(self) -> Wanted:
        last, follows = self._queue.last, None
        if self._speed < 1 and last is not None and last.start + last.frames != self._next:
            follows = last.start + last.frames
        return Wanted(self._next, self._jump_from, self._scene, self._faded_from, self._version, self._loop, follows,
                      self._once)  # fmt: skip

    def _wanted(self) -> bool:
        more = not self._nothing_follows()
        most = FAR_AHEAD if time.monotonic() - self._dropped_at > _CALM_S else AHEAD
        return not self._failed and len(self._queue.chunks) < most and more

    def _render(self, state: Wanted, ended: Scene | None) -> tuple[Chunk, int] | None:
        """The next chunk and the frame after it; None where it is not wanted any more.

        ``ended``: what the chunk before it ends with, None where there is none.
        """
        span = span_of(state, self._samples)
        reached = span.frames + span.follow
        if not self._is_ready(state.scene, span.start, reached, state) and state != self._state():
            return None
        chunk, following = make_chunk(state, span, ended, self._readiness), span.start + span.frames
        if self._speed < 1 and span.frames == CHUNK and (not state.loop or following < state.loop[1]):
            target = round(span.start + self._speed * CHUNK - self._owed)
            natural, following = following, slower(state.scene, following, target, self._readiness)
            following = min(natural, max(span.start + 1, following))
            self._owed = following - target
        return chunk, following

    def _is_ready(self, scene: Scene, start: int, frames: int, state: Wanted) -> bool:
        """Wait until a span of a scene is ready, as long as nobody would hear that; whether it is."""
        while not self._readiness.all(scene, start, frames):
            with self._work:
                low = self.playing and len(self._queue.chunks) <= _LOW and time.monotonic() > self._patient_until
                if low or self._closed or self._failed or state != self._state():
                    return False
                self._work.wait(_LOOK_S)
        return True
