"""Renders what is heard next, in a thread of its own, so that the feeder of the player finds it ready."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import NamedTuple

from isophon.core.playing.chunks import CHUNK
from isophon.core.playing.mix import Scene
from isophon.core.playing.readiness import Readiness

_AHEAD, _NEAR = 72, 8  # chunks: some seconds; what comes next is looked at chunk by chunk
_LOOK_AGAIN_S = 0.25  # s after which it is looked anew what comes next


class Coming(NamedTuple):
    """What is heard next: the scene, its frame, the loop, how long the mix is, and whether rendering failed."""

    scene: Scene
    start: int
    loop: tuple[int, int] | None
    samples: int
    failed: bool


class AheadMaker:
    """Renders whatever comes that is not ready, the nearest first.

    Parameters
    ----------
    work : what is held while the player is looked at; notified whenever something is rendered
    readiness : of the scenes that are heard
    coming : what is heard next; None once the player is closed
    fail : called with an error
    """

    def __init__(
        self,
        work: threading.Condition,
        readiness: Readiness,
        coming: Callable[[], Coming | None],
        fail: Callable[[Exception], None],
    ) -> None:
        self._work, self._readiness, self._coming, self._fail = work, readiness, coming, fail
        self._all_ready: Coming | None = None  # what comes, where nothing of it is left to be rendered

    def run(self) -> None:
        """Render until the player is closed."""
        while True:
            with self._work:
                self._work.wait_for(lambda: self._coming() != self._all_ready, _LOOK_AGAIN_S)
                coming = self._coming()
            if coming is None:
                return
            try:
                made = not coming.failed and self._make_next(coming)
            except Exception as error:  # noqa: BLE001 (shown to the person)
                self._fail(error)
                continue
            self._all_ready = None if made else coming
            if made:
                with self._work:
                    self._work.notify_all()

    def _make_next(self, coming: Coming) -> bool:
        """Render the first span of what comes that is not ready; whether there was one."""
        start, loop = coming.start, coming.loop
        places = [start + i * CHUNK for i in (*range(_NEAR), *range(_NEAR, _AHEAD, _NEAR))]
        if loop and start < loop[1]:
            places = [at if at < loop[1] else loop[0] + (at - loop[0]) % (loop[1] - loop[0]) for at in places]
        spans = [(at, CHUNK if i < _NEAR else _NEAR * CHUNK) for i, at in enumerate(places) if at < coming.samples]
        return self._readiness.make_next(coming.scene, spans)
