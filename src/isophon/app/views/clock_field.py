"""The clock: shows the time of the song that is heard, and takes one that is typed."""

from __future__ import annotations

import re

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent

from isophon.app import theme
from isophon.app.views.keyboard import Field, back_to_page

_TIME = re.compile(r"\s*(?:(\d{1,4}):)?(\d{1,6}(?:[.,]\d*)?)\s*(?:s)?\s*")


def seconds_of(text: str) -> float | None:
    """The seconds of ``1:07.5`` or ``67.5``; None where it is no time."""
    found = _TIME.fullmatch(text)
    return None if found is None else 60 * int(found[1] or 0) + float(found[2].replace(",", "."))


class ClockField(Field):
    """``chosen(seconds)``: a time that was typed; Return goes there, Esc leaves it."""

    chosen = Signal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("clock")
        self._shown = ""
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setAccessibleName("Time")
        self.setToolTip("The time of the song; click and type one to go there (1:07.5 or 67.5)")
        self.setFrame(False)

    def show_time(self, text: str) -> None:
        """Show a time, unless one is being typed."""
        self._shown = text
        if not self.hasFocus() and text != self.text():
            self.setText(text)

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance("00:00.00") + theme.u(2), super().sizeHint().height())

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.selectAll()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.setText(self._shown)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            seconds = seconds_of(self.text())
            if seconds is None:
                self.selectAll()
                return
            self.chosen.emit(seconds)
        elif event.key() == Qt.Key.Key_Escape:
            back_to_page(self)
            return
        super().keyPressEvent(event)
