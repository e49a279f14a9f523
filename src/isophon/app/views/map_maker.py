"""Makes the picture of what is in view: at once as far as it is known, sharp a moment later, in a thread of its own."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from queue import SimpleQueue
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QImage

from isophon.app.views.relief import drawn, printed
from isophon.core import log
from isophon.core.render import Plan
from isophon.core.takes.changes import Change, changed_by, estimated
from isophon.core.takes.pictures import Axis, close_margin, close_picture

_LOOK_MS = 8


class Sight(msgspec.Struct, frozen=True):
    """What is looked at: seconds ``view`` of a take over the frequencies of ``axis``, in so many ``columns``."""

    take: Any
    view: tuple[float, float]
    axis: Axis
    columns: int


class Wanted(msgspec.Struct, frozen=True):
    """A sight after ``plan``; ``changes``: what that does, as far as marks tell; ``size``: of its picture in pixels."""

    sight: Sight
    voice_lufs: float | None
    size: tuple[int, int]
    lines: bool
    changes: tuple[Change, ...] = ()
    plan: Plan = ()


class Made(msgspec.Struct, frozen=True, eq=False):
    """A picture, and the levels as sung and cleaned that it was drawn from."""

    wanted: Wanted
    sung: np.ndarray
    cleaned: np.ndarray
    image: QImage


def levels(sight: Sight, plan: Plan) -> np.ndarray:
    """The levels of a sight after a plan, uint8 ``(rows, columns)``."""
    take, (start, end), axis = sight.take, sight.view, sight.axis
    rate = take.recording.sample_rate
    margin = close_margin(rate, axis)
    first, count = round(start * rate) - margin, round((end - start) * rate) + 2 * margin
    if plan:
        begin = max(0, first)
        samples = take.renderer.cleaned(plan, begin, first + count - begin)
        samples = np.pad(samples, ((0, 0), (begin - first, 0)))
    else:
        samples = take.recording.read(first, count)
    return close_picture(samples, rate, sight.columns, axis)


def roughly(sung: np.ndarray, wanted: Wanted) -> QImage:
    """A picture by what marks tell of their changes, from levels as sung; quick enough for the window's own thread."""
    change = estimated(sung.shape, wanted.sight.axis, wanted.sight.view, wanted.changes)
    return printed(sung, changed_by(sung, change), wanted.voice_lufs)


class MapMaker(QObject):
    """Makes what is wanted, the newest only; ``ready`` tells when it is there."""

    ready = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker = ThreadPoolExecutor(1, "map")
        self._asked: list[Wanted | None] = [None]
        self._known: list[tuple[Sight, np.ndarray]] = []  # the last levels as sung; the thread's own
        self._results: SimpleQueue[tuple[Wanted, Made | None]] = SimpleQueue()  # the thread may outlive this
        self._awaited = 0
        self.made: Made | None = None
        self._look = QTimer(self, interval=_LOOK_MS)
        self._look.timeout.connect(self._take)

    def ask(self, wanted: Wanted) -> None:
        """Make it, if it is not there or being made."""
        if self._asked[0] != wanted:
            self._asked[0] = wanted
            self._awaited += 1
            self._worker.submit(_make, self._asked, wanted, self._known, self._results)
            self._look.start()

    def stop(self) -> None:
        """Make nothing any more."""
        self._asked[0] = None

    @property
    def settled(self) -> bool:
        """Whether what was asked for last is there."""
        return self._awaited == 0

    def image(self, wanted: Wanted) -> QImage | None:
        """The picture, or what is nearest to it of what is known of the same sight; None where nothing is."""
        made = self.made
        if made is None or made.wanted.sight != wanted.sight:
            return None
        if made.wanted.changes == wanted.changes and made.wanted.size == wanted.size:
            return made.image
        then, now = (estimated(made.sung.shape, wanted.sight.axis, wanted.sight.view, one.changes)
                     for one in (made.wanted, wanted))  # fmt: skip
        cleaned = np.minimum(changed_by(made.cleaned, now - then), np.maximum(made.sung, made.cleaned))
        return printed(made.sung, cleaned, wanted.voice_lufs)

    def _take(self) -> None:
        """Take up what was made."""
        while not self._results.empty():
            wanted, made = self._results.get()
            self._awaited -= 1
            if made is not None and self._asked[0] is wanted:
                self.made = made
                self.ready.emit()
        if not self._awaited:
            self._look.stop()


def _make(asked: list[Wanted | None], wanted: Wanted, known: list, results: SimpleQueue) -> None:
    """Make what is wanted, None where something newer is or where it fails; in the thread, which knows no widget."""
    made = None
    try:
        if asked[0] is wanted:
            if not known or known[0][0] != wanted.sight:
                known[:] = [(wanted.sight, levels(wanted.sight, ()))]
            sung = known[0][1]
            cleaned = levels(wanted.sight, wanted.plan) if wanted.plan else sung
            made = Made(wanted, sung, cleaned, drawn(sung, cleaned, wanted.voice_lufs, wanted.size, wanted.lines))
    except Exception as error:  # the take's own trouble is told where it is listed, ours in the log
        if asked[0] is wanted:
            log.trouble(error)
    results.put((wanted, made))
