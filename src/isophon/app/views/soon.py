"""A widget drawn anew soon, in turns of its own, so that no turn has to draw all that changed."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import ClassVar

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

_BETWEEN_S, _SHORT_S = 0.008, 0.002  # what takes no longer needs no turn of its own


class Soon(QTimer):
    """Updates a widget ``ms`` after the first time it was asked; however fast more asking follows, none puts it off.

    ``steps``: made ready before it, each in a turn of its own; no two of any widgets follow each other at once, so
    that others have their turn. Until then the widget shows what it has (:attr:`due`).
    """

    _free_at: ClassVar[float] = 0.0  # on the clock of time.monotonic

    def __init__(self, widget: QWidget, ms: int, *steps: Callable[[], object]) -> None:
        super().__init__(widget, singleShot=True, interval=ms)
        self._widget, self._ms, self._steps, self._next = widget, ms, steps, 0
        self.timeout.connect(self._go_on)

    @property
    def due(self) -> bool:
        """Whether it is going to be drawn anew."""
        return self.isActive()

    def ask(self) -> None:
        """Draw the widget anew, soon."""
        if not self.isActive():
            self._next = 0
            self.start(self._ms)

    def _go_on(self) -> None:
        left = self._steps[self._next :] if self._widget.isVisible() else ()
        wait_s = Soon._free_at - time.monotonic()
        if left and wait_s > 0:
            self.start(max(1, round(1000 * wait_s)))
            return
        began = time.monotonic()
        for step in left:
            if time.monotonic() - began > _SHORT_S:
                self.start(round(1000 * _BETWEEN_S))
                break
            step()
            self._next += 1
        else:
            self._widget.update()
        if time.monotonic() - began > _SHORT_S:
            Soon._free_at = time.monotonic() + _BETWEEN_S
