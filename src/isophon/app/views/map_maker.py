"""The picture of what is in view: at once as far as it is known, sharp a moment later from a process of its own."""

from __future__ import annotations

import logging
import threading
from functools import cache
from queue import SimpleQueue
from typing import Any

import msgspec
import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QColor, QImage

from isophon.app import theme
from isophon.core.errors import InputError
from isophon.core.log import INSIDE
from isophon.core.staging import Plan
from isophon.core.takes.changes import Change, changed_by, estimated
from isophon.core.takes.pictures import Axis
from isophon.core.takes.relief import Inks, printed
from isophon.core.work.picturing import Look, Picture, PictureProcess, Request

_log = logging.getLogger(__name__)

_LOOK_MS = 8


class Sight(msgspec.Struct, frozen=True):
    """What is looked at: seconds ``view`` of a take over the frequencies of ``axis``, in so many ``columns``."""

    take: Any
    view: tuple[float, float]
    axis: Axis
    columns: int
    generation: int


class Wanted(msgspec.Struct, frozen=True):
    """A sight after ``plan``; ``changes``: what that does, as far as marks tell; ``size``: of its picture in pixels."""

    sight: Sight
    voice_lufs: float | None
    size: tuple[int, int]
    lines: bool
    changes: tuple[Change, ...] = ()
    plan: Plan = ()
    inks: tuple[bool, bool] = msgspec.field(default_factory=theme.in_force)

    @property
    def request(self) -> Request:
        """The same as the process is asked for it."""
        sight = self.sight
        look = Look(sight.take.source, sight.generation, sight.view, sight.axis, sight.columns, self.plan)
        return Request(look, self.voice_lufs, inks(), self.size, self.lines)


class Made(msgspec.Struct, frozen=True, eq=False):
    """A picture, and the levels that it was drawn from."""

    wanted: Wanted
    picture: Picture
    image: QImage


def inks() -> Inks:
    """The theme's, for maps."""
    return Inks(*(_rgb(colour) for colour in (theme.PAPER, theme.INK, theme.OVER, theme.ADDED)))


def _rgb(colour: QColor) -> tuple[int, int, int]:
    return colour.red(), colour.green(), colour.blue()


def _image(colours: np.ndarray) -> QImage:
    pixels = np.ascontiguousarray(colours)
    height, width = pixels.shape
    return QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32).copy()


def roughly(sung: np.ndarray, wanted: Wanted) -> QImage:
    """A picture by what marks tell of their changes, from levels as sung; quick enough for the window's own process."""
    change = estimated(sung.shape, wanted.sight.axis, wanted.sight.view, wanted.changes)
    return _image(printed(sung, changed_by(sung, change), wanted.voice_lufs, inks()))


@cache
def process() -> PictureProcess:
    """The one of this program."""
    return PictureProcess()


class MapMaker(QObject):
    """Makes what is wanted, the newest only; ``ready`` tells when it is there."""

    ready = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.made: Made | None = None
        self._asked: Wanted | None = None
        self._estimated: tuple[Made, Wanted, QImage] | None = None
        self._orders = _Orders()
        self._look = QTimer(self, interval=_LOOK_MS)
        self._look.timeout.connect(self._take)

    def ask(self, wanted: Wanted) -> None:
        """Make it, if it is not there or being made."""
        if self._asked != wanted:
            self._asked = wanted
            self._orders.put(wanted)
            self._look.start()

    def stop(self) -> None:
        """Make nothing any more."""
        self._orders.put(None)

    @property
    def settled(self) -> bool:
        """Whether what was asked for last is there."""
        return not self._look.isActive()

    def image(self, wanted: Wanted) -> QImage | None:
        """The picture, or what is nearest to it of what is known of the same sight; None where nothing is."""
        made = self.made
        if made is None or made.wanted.sight != wanted.sight:
            return None
        if made.wanted.changes == wanted.changes and made.wanted.size == wanted.size:
            return made.image
        if self._estimated is None or self._estimated[0] is not made or self._estimated[1] != wanted:
            self._estimated = made, wanted, self._estimate(made, wanted)
        return self._estimated[2]

    @staticmethod
    def _estimate(made: Made, wanted: Wanted) -> QImage:
        sung, cleaned = made.picture.sung, made.picture.cleaned
        then, now = (estimated(sung.shape, wanted.sight.axis, wanted.sight.view, one.changes)
                     for one in (made.wanted, wanted))  # fmt: skip
        cleaned = np.minimum(changed_by(cleaned, now - then), np.maximum(sung, cleaned))
        return _image(printed(sung, cleaned, wanted.voice_lufs, inks()))

    def _take(self) -> None:
        """Take up what was made."""
        while not self._orders.done.empty():
            wanted, picture = self._orders.done.get()
            if wanted is self._asked:
                self._look.stop()
                if picture is not None:
                    self.made = Made(wanted, picture, _image(picture.colours))
                    self.ready.emit()


class _Orders:
    """Has the newest order carried out in a thread, which knows no widget and may outlive them all."""

    def __init__(self) -> None:
        self.done: SimpleQueue[tuple[Wanted, Picture | None]] = SimpleQueue()
        self._newest: list[Wanted | None] = []
        self._there = threading.Condition()
        threading.Thread(target=self._work, name="map", daemon=True).start()

    def put(self, wanted: Wanted | None) -> None:
        """Carry this out next, whatever else was to be; None: end."""
        with self._there:
            self._newest = [wanted]
            self._there.notify()

    def _work(self) -> None:
        while True:
            with self._there:
                self._there.wait_for(lambda: self._newest)
                wanted = self._newest.pop()
            if wanted is None:
                return
            picture = None
            try:
                picture = process().ask(wanted.request)
            except InputError:  # the take's own trouble is shown where it is listed
                pass
            except Exception as error:  # noqa: BLE001 (the picture stays empty, the next one may do)
                _log.error(INSIDE, error, exc_info=error)
            self.done.put((wanted, picture))
