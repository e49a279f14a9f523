"""Plays a mix as sung, cleaned, or what was taken out, switching without a click or losing the place.

A feeder thread mixes all versions a little ahead of what a second one has rendered; where that is not ready in time, a
part is heard as it was last, else as sung, never as silence. The device's callback only mixes the versions with weights
that glide. Where the play jumps (loop, seek) or the scene changes, the feeder fades from what would have come to what
comes now.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from typing import Any

import numpy as np

from isophon.core import log
from isophon.core.errors import IsophonError
from isophon.core.playing.chunks import CHUNK, SHORTEST_LOOP, Chunk, Wanted, make_chunk, rise, span_of
from isophon.core.playing.mix import Heard, Scene
from isophon.core.playing.readiness import Readiness
from isophon.core.standins.rough_chain import Amounts, RoughChain

COMPARES = ("as sung", "cleaned", "taken out")
AHEAD, FAR_AHEAD, _CALM_S = 16, 64, 0.5  # chunks: a tile, and where nothing was changed for a while
_MADE_AHEAD, _NEAR = 72, 8  # chunks: some seconds; what comes next is looked at chunk by chunk
_LOOK_AGAIN_S = 0.25
_HEARD_ON = 2  # chunks of what was heard before a change, some 40 ms: the machine may stop for a moment
_LOW, _PATIENCE_S, _LOOK_S = 4, 0.04, 0.005  # chunks; how long a sound may be waited for after a jump
_GLIDE_S = 0.012


class Player:
    """The playing of a scene of ``samples`` frames at ``sample_rate`` Hz through a device.

    ``trouble``: why the last playing stopped by itself, '' where it did not. ``empty``: how many blocks could not be
    filled.
    ``open_device(sample_rate, fill)`` gives something with ``name``, ``silent``
    and ``close()`` that calls ``fill(block)`` for float32 ``(frames, 2)``.
    """

    def __init__(
        self, sample_rate: int, samples: int, open_device: Callable[[int, Callable[[np.ndarray], None]], Any]
    ) -> None:
        self.sample_rate, self._samples = sample_rate, samples
        self._scene: Scene = ()
        self._faded_from: Scene | None = None
        self._version = 0
        self._compare, self._match_db = "cleaned", 0.0
        self._weights = np.array([0.0, 1.0, 1.0], np.float32)
        self._loop: tuple[int, int] | None = None
        self._next = 0
        self._jump_from: int | None = None
        self._chunks: deque[Chunk] = deque()
        self._readiness = Readiness(sample_rate)
        self._all_made: tuple | None = None  # what comes, where nothing of it is left to be rendered
        self._for_now, self._patient_until = False, 0.0
        self._used = 0
        self._dropped_at = 0.0
        self._position = 0
        self._playing, self._gain = False, 0.0
        self._peak = 0.0
        self._chain: RoughChain | None = None
        self._chained, self._wet = False, 0.0
        self._closed, self._failed = False, False
        self.trouble, self.empty = "", 0
        self._work = threading.Condition()
        self._feeder = threading.Thread(target=self._feed, name="player feeder", daemon=True)
        self._maker = threading.Thread(target=self._make_ahead, name="player maker", daemon=True)
        self._feeder.start()
        self._maker.start()
        self.device = open_device(sample_rate, self.fill)

    # what a person asks for

    @property
    def playing(self) -> bool:
        """Whether sound is asked for."""
        return self._playing

    @property
    def preparing(self) -> bool:
        """Whether sound is asked for and none of it is there yet."""
        return self._playing and not self._chunks

    @property
    def as_sung_for_now(self) -> bool:
        """Whether what is heard is not all as it is to be, since that is still being rendered."""
        return self._playing and self._for_now

    @property
    def scene(self) -> Scene:
        """What is heard."""
        return self._scene

    @property
    def position(self) -> int:
        """The frame heard now."""
        return self._position

    def play(self) -> None:
        """Go on from the place."""
        with self._work:
            self._playing, self._failed, self.trouble = True, False, ""
            self._patient_until = time.monotonic() + _PATIENCE_S
            self._work.notify_all()

    def stop(self) -> None:
        """Fade out and keep the place."""
        self._playing = False

    def seek(self, frame: int) -> None:
        """Go to a frame of the mix."""
        with self._work:
            self._restart(int(np.clip(frame, 0, max(0, self._samples - 1))))

    def set_loop(self, loop: tuple[int, int] | None) -> None:
        """Play only these frames, again and again; None: to the end."""
        with self._work:
            self._loop = loop if loop and loop[1] - loop[0] > SHORTEST_LOOP else None
            target = self._target_of_jump()
            place = self._position if target is None else target
            if self._loop and not self._loop[0] <= place < self._loop[1]:
                self._restart(self._loop[0])
            else:
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

    def set_compare(self, compare: str) -> None:
        """Which of COMPARES is heard."""
        self._compare = compare

    def set_match(self, gain_db: float) -> None:
        """The gain of cleaned that matches its loudness to as sung; 0 for no match."""
        self._match_db = gain_db

    def set_chain(self, amounts: Amounts | None) -> None:
        """What is heard goes through the rough chain, so much of each; None: as it is."""
        if amounts is None:
            self._chained = False
            return
        if self._chain is None or not self._chained:
            self._chain = RoughChain(self.sample_rate)
        self._chain.amounts, self._chained = amounts, True

    def ready(self, version: int, timeout: float) -> bool:
        """Wait until samples of a version are there for the device; whether they are."""
        with self._work:
            return self._work.wait_for(lambda: self.is_ready(version), timeout)

    def is_ready(self, version: int) -> bool:
        """Whether samples of a version are there for the device."""
        return any(chunk.version >= version and not chunk.for_now for chunk in tuple(self._chunks))

    def peak(self) -> float:
        """Highest sample since the last call."""
        peak, self._peak = self._peak, 0.0
        return peak

    def close(self) -> None:
        """Give the device back and end the feeder."""
        self.device.close()
        with self._work:
            self._closed = True
            self._work.notify_all()
        for thread in (self._feeder, self._maker):
            thread.join(timeout=2.0)

    # the device's side

    def fill(self, block: np.ndarray) -> None:
        """Write the next frames into ``block``, float32 ``(frames, 2)``; called by the device."""
        block[:] = 0.0
        if not self._playing and self._gain == 0.0:
            return
        heard, got = self._take(len(block))
        target = self._weights_wanted()
        if got:
            glide = min(len(block), max(1, round(_GLIDE_S * self.sample_rate)))
            weights = self._weights + (target - self._weights) * rise(glide, len(block))
            for i, version in enumerate(heard):
                block += (version * weights[:, i]).T
            self._weights = target
            self._through_chain(block)
        goal = 1.0 if self._playing and got else 0.0
        if goal != self._gain:
            block *= self._gain + (goal - self._gain) * rise(len(block), len(block))
            self._gain = goal
            if goal == 0.0:
                self._arrive()
        self._peak = max(self._peak, float(np.abs(block).max(initial=0.0)))

    def _through_chain(self, block: np.ndarray) -> None:
        """Through the rough chain where it is wanted, which comes and goes softly; never what was taken out."""
        chain, wanted = self._chain, float(self._chained and self._compare != "taken out")
        if chain is None or (wanted == 0.0 and self._wet == 0.0):
            return
        wet = self._wet + (wanted - self._wet) * rise(len(block), len(block))
        block += wet * (chain.process(block) - block)
        self._wet = wanted

    def _weights_wanted(self) -> np.ndarray:
        if self._compare == "as sung":
            return np.array([1.0, 0.0, 1.0], np.float32)
        if self._compare == "taken out":
            return np.array([1.0, -1.0, 0.0], np.float32)
        return np.array([0.0, 10 ** (self._match_db / 20), 1.0], np.float32)

    def _take(self, frames: int) -> tuple[Heard, bool]:
        heard = Heard(*(np.zeros((2, frames), np.float32) for _ in range(3)))
        at = 0
        with self._work:
            while at < frames and self._chunks:
                chunk = self._chunks[0]
                self._for_now = chunk.for_now
                count = min(frames - at, chunk.heard.sung.shape[1] - self._used)
                for whole, piece in zip(heard, chunk.heard, strict=True):
                    whole[:, at : at + count] = piece[:, self._used : self._used + count]
                at, self._used = at + count, self._used + count
                self._position = chunk.start + self._used
                if self._used == chunk.heard.sung.shape[1]:
                    self._chunks.popleft()
                    self._used = 0
            ended = not self._chunks and self._next >= self._samples and not self._loop
            self.empty += self._playing and at < frames and not ended
            if ended:
                self._playing = False
            self._work.notify_all()
        return heard, at > 0

    # the feeder's side

    def _restart(self, frame: int) -> None:
        """Jump: what is queued is given up, but for the chunks that are heard until the new place is there."""
        self._drop()
        if self._gain > 0 and self._jump_from is None:
            self._jump_from = self._next
        self._next = frame
        self._patient_until = time.monotonic() + (_PATIENCE_S if self._gain == 0 else 0)
        if not self._chunks:
            self._position = frame
        self._work.notify_all()

    def _arrive(self) -> None:
        """Once it is silent: be where a jump that was asked for meanwhile leads, without the rest of the old place."""
        with self._work:
            if not self._chunks or self._playing:
                return
            target = self._target_of_jump()
            if target is not None:
                self._chunks.clear()
                self._next = self._position = target
                self._used, self._jump_from = 0, None
                self._work.notify_all()

    def _target_of_jump(self) -> int | None:
        """Where a jump leads that was asked for and is not heard yet."""
        if self._jump_from is not None:
            return self._next
        return next((chunk.start for chunk in reversed(tuple(self._chunks)[1:]) if chunk.jumped), None)

    def _drop(self) -> None:
        """Render the chunks again, but for those that are heard on; a jump to be heard after them stays one."""
        target: int | None = None
        keep = _HEARD_ON if self._gain > 0 else 1
        self._dropped_at = time.monotonic()
        if self._jump_from is not None:
            target, self._next, self._jump_from = self._next, self._jump_from, None
        while len(self._chunks) > keep:
            chunk = self._chunks.pop()
            target = chunk.start if chunk.jumped and target is None else target
            self._next = chunk.start
        if self._chunks and self._gain == 0.0:  # nobody hears it: nothing of it need be played to its end
            self._next, self._used = self._chunks.pop().start + self._used, 0
        if target is not None:
            self._jump_from, self._next = (self._next if self._gain > 0 else None), target
        self._work.notify_all()

    def _feed(self) -> None:
        while True:
            with self._work:
                self._work.wait_for(lambda: self._closed or self._wanted())
                if self._closed:
                    return
                state, ended = self._state(), self._ended()
            try:
                rendered = self._render(state, ended)
            except Exception as error:  # whatever it is, what is shown must stay true
                self._fail(error)
                continue
            with self._work:
                if rendered is not None and state == self._state():
                    chunk, self._next = rendered
                    self._chunks.append(chunk)
                    self._jump_from, self._faded_from = None, None
                    self._work.notify_all()

    def _make_ahead(self) -> None:
        """Render what is heard next, so that the feeder finds it ready."""
        while True:
            with self._work:
                self._work.wait_for(lambda: self._closed or self._all_made != self._coming(), _LOOK_AGAIN_S)
                if self._closed:
                    return
                coming = self._coming()
            try:
                made = not self._failed and self._make_next(*coming)
            except Exception as error:
                self._fail(error)
                continue
            self._all_made = None if made else coming
            if made:
                with self._work:
                    self._work.notify_all()

    def _coming(self) -> tuple[Scene, int, tuple[int, int] | None]:
        return self._scene, self._next, self._loop

    def _make_next(self, scene: Scene, start: int, loop: tuple[int, int] | None) -> bool:
        """Render the first span of what comes that is not ready; whether there was one."""
        places = [start + i * CHUNK for i in (*range(_NEAR), *range(_NEAR, _MADE_AHEAD, _NEAR))]
        if loop and start < loop[1]:
            places = [at if at < loop[1] else loop[0] + (at - loop[0]) % (loop[1] - loop[0]) for at in places]
        spans = [(at, CHUNK if i < _NEAR else _NEAR * CHUNK) for i, at in enumerate(places) if at < self._samples]
        return self._readiness.make_next(scene, spans)

    def _fail(self, error: Exception) -> None:
        """Stop, and keep why; playing again tries again."""
        log.trouble(error)
        with self._work:
            self._playing, self._failed = False, True
            words = f"an error inside Isophon stopped the playing ({type(error).__name__}: {error})"
            self.trouble = str(error) if isinstance(error, IsophonError) else words

    def _state(self) -> Wanted:
        return Wanted(self._next, self._jump_from, self._scene, self._faded_from, self._version, self._loop)

    def _ended(self) -> Scene | None:
        """What the last chunk that is queued ends with."""
        return self._chunks[-1].ends if self._chunks else None

    def _wanted(self) -> bool:
        more = self._next < self._samples or self._loop is not None
        most = FAR_AHEAD if time.monotonic() - self._dropped_at > _CALM_S else AHEAD
        return not self._failed and len(self._chunks) < most and more

    def _render(self, state: Wanted, ended: Scene | None) -> tuple[Chunk, int] | None:
        """The next chunk and the frame after it; None where it is not wanted any more.

        ``ended``: what the chunk before it ends with, None where there is none.
        """
        span = span_of(state, self._samples)
        reached = span.frames + span.follow
        if not self._is_ready(state.scene, span.start, reached, state) and state != self._state():
            return None
        return make_chunk(state, span, ended, self._readiness), span.start + span.frames

    def _is_ready(self, scene: Scene, start: int, frames: int, state: Wanted) -> bool:
        """Wait until a span of a scene is ready, as long as nobody would hear that; whether it is."""
        while not self._readiness.all(scene, start, frames):
            with self._work:
                low = self._playing and len(self._chunks) <= _LOW and time.monotonic() > self._patient_until
                if low or self._closed or self._failed or state != self._state():
                    return False
                self._work.wait(_LOOK_S)
        return True
