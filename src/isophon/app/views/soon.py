"""A widget drawn anew soon, in turns of its own, so that no turn has to draw all that changed."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

_BETWEEN_MS = 8


class Soon(QTimer):
    """Updates a widget ``ms`` after the first time it was asked; however fast more asking follows, none puts it off.

    ``steps``: made ready before it, each in a turn of its own. Until then the widget shows what it has (:attr:`due`).
    """

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
        if self._next < len(self._steps) and self._widget.isVisible():
            self._steps[self._next]()
            self._next += 1
        if self._next < len(self._steps) and self._widget.isVisible():
            self.start(_BETWEEN_MS)
        else:
            self._widget.update()
