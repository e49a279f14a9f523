"""What is around a mark, as sung and cleaned, made in a thread of its own: as pictures, or as waves."""

from __future__ import annotations

import logging
from concurrent.futures import ThreadPoolExecutor
from queue import SimpleQueue
from typing import Any

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app import theme
from isophon.app.views.ink import ink_image
from isophon.app.views.map_maker import process
from isophon.core.log import INSIDE
from isophon.core.staging import Plan
from isophon.core.takes.pictures import Axis, close_margin
from isophon.core.work.picturing import Look

_log = logging.getLogger(__name__)

_COLUMNS = 360
_FEWEST = 4  # samples of a wave
_LOOK_MS = 4


class Wanted(msgspec.Struct, frozen=True):
    """The seconds ``window`` of a take after ``plan``; over the frequencies of ``axis``, or its wave where None."""

    take: Any
    window: tuple[float, float]
    axis: Axis | None
    voice_lufs: float | None
    plan: Plan = ()
    inks: tuple[bool, bool] = msgspec.field(default_factory=theme.in_force)

    @property
    def place(self) -> tuple[object, ...]:
        """What is looked at, whatever is done to it."""
        return self.take, self.window, self.axis

    @property
    def frames(self) -> tuple[int, int]:
        """The first frame that is needed, and how many."""
        rate = self.take.recording.sample_rate
        margin = 0 if self.axis is None else close_margin(rate, self.axis)
        count = round((self.window[1] - self.window[0]) * rate) + 2 * margin
        return round(self.window[0] * rate) - margin, max(_FEWEST, count)

    def made(self) -> Any:
        """A QImage, or the samples ``(n,)`` of the first channel."""
        look = Look(self.take.source, process().generation, self.window, self.axis, _COLUMNS, self.plan)
        seen = process().ask(look)
        return seen if self.axis is None else ink_image(seen, self.voice_lufs)


class CloseUp(QObject):
    """Makes what is wanted as sung and cleaned, the newest only; ``ready`` tells when one of them is there."""

    ready = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._worker = ThreadPoolExecutor(1, "close-up")
        self._asked: dict[bool, Wanted] = {}
        self._kept: dict[bool, tuple[Wanted, Any]] = {}
        self._made: SimpleQueue[tuple[bool, Wanted, Any]] = SimpleQueue()  # the thread may outlive what is seen of this
        self._awaited = 0
        self._look = QTimer(self, interval=_LOOK_MS)
        self._look.timeout.connect(self._take)

    def ask(self, sung: Wanted, cleaned: Wanted) -> None:
        """Make both, as far as they are not there or being made."""
        for which, wanted in ((False, sung), (True, cleaned)):
            if self._asked.get(which) != wanted:
                self._asked[which] = wanted
                self._awaited += 1
                self._worker.submit(_make, self._asked, which, wanted, self._made)
                self._look.start()

    @property
    def settled(self) -> bool:
        """Whether what was asked for last is there."""
        return all(which in self._kept and self._kept[which][0] is wanted for which, wanted in self._asked.items())

    def kept(self, cleaned: bool, wanted: Wanted) -> Any:
        """The newest of one place, None where there is none yet."""
        known = self._kept.get(cleaned)
        return known[1] if known and known[0].place == wanted.place else None

    def _take(self) -> None:
        """Take up what was made."""
        while not self._made.empty():
            which, wanted, made = self._made.get()
            self._awaited -= 1
            if made is not None and self._asked.get(which) is wanted:
                self._kept[which] = (wanted, made)
                self.ready.emit()
        if not self._awaited:
            self._look.stop()


def _make(asked: dict[bool, Wanted], which: bool, wanted: Wanted, made: SimpleQueue) -> None:
    """Make what is wanted, None where something newer is or where it fails; in the thread, which knows no widget."""
    picture = None
    try:
        if asked.get(which) is wanted:
            picture = wanted.made()
    except Exception as error:  # noqa: BLE001 (the take's own trouble is shown where it is listed, ours in the log)
        _log.error(INSIDE, error, exc_info=error)
    made.put((which, wanted, picture))
