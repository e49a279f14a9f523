"""A widget drawn anew soon, in a turn of its own, so that no turn has to draw all that changed."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget


class Soon(QTimer):
    """Updates a widget ``ms`` after the first time it was asked; however fast more asking follows, none puts it off."""

    def __init__(self, widget: QWidget, ms: int) -> None:
        super().__init__(widget, singleShot=True, interval=ms)
        self.timeout.connect(widget.update)

    def ask(self) -> None:
        """Draw the widget anew, soon."""
        if not self.isActive():
            self.start()
