"""A setting on one line: its words, a thin line with a knob and the default's tick, its value."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.translation import tr
from isophon.app.views.keyboard import Field, asks_first

_HEIGHT = 24
_FINE = 0.1  # while Shift is held


class Slider(QWidget):
    """Drag (with Shift: finely), wheel, arrow keys; double-click goes back to the default; Return or a double-click on
    the number types a value. ``moved(value, gesture)``.
    """

    moved = Signal(float, object)

    def __init__(
        self,
        words: str,
        low: float,
        high: float,
        default: float,
        show: Callable[[float], str],
        step: float = 1.0,
        words_width: int = 0,
        parent: QWidget | None = None,
        factor: float = 1.0,
        spare: int = 44,
        number_width: int = 70,
    ) -> None:
        """``factor``: by how much the number shown is larger than the value (100 for a share in %); ``spare``: the
        length of the shortest line; ``number_width``: the room for the number.
        """
        super().__init__(parent)
        self._words, self._low, self._high, self._default = words, low, high, default
        self._show, self._step, self._value, self._factor = show, step, default, factor
        self._words_width = theme.u(words_width) or theme.text_width(tr(words), theme.TEXT) + 14
        self._number_width = theme.u(number_width)
        self._gesture = 0
        self._drag: tuple[float, float] | None = None  # the pointer's last place, and the value there, unrounded
        self._typed: Field | None = None
        self.setMinimumHeight(theme.u(_HEIGHT))
        self.setMinimumWidth(self._words_width + self._number_width + theme.u(spare))
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(tr(words))
        self.setAccessibleDescription(show(default))

    @property
    def value(self) -> float:
        """What it stands at."""
        return self._value

    @property
    def default(self) -> float:
        """What a double-click goes back to."""
        return self._default

    def show_value(self, value: float, default: float | None = None) -> None:
        """Stand at a value, and mark another default, without saying so."""
        self._value = value
        self._default = self._default if default is None else default
        self.setAccessibleDescription(self._show(value))
        self.update()

    def _line(self) -> tuple[float, float]:
        return self._words_width + 8.0, self.width() - self._number_width - 8.0

    def _x_of(self, value: float) -> float:
        left, right = self._line()
        return left + (value - self._low) / (self._high - self._low) * (right - left)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = self.height() / 2
        on = self.isEnabled()
        painter.setFont(theme.sans(theme.TEXT))
        painter.setPen(theme.INK if on else theme.CONTOUR)
        flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, 0, self._words_width, self.height()), flags, tr(self._words))
        left, right = self._line()
        painter.setPen(QPen(theme.CONTOUR, 2))
        painter.drawLine(QPointF(left, middle), QPointF(right, middle))
        tick = self._x_of(self._default)
        painter.setPen(QPen(theme.CONTOUR, 1.5))
        painter.drawLine(QPointF(tick, middle - 8), QPointF(tick, middle + 8))
        if on:
            ink = theme.SELECTED if self.hasFocus() else theme.INK
            painter.setPen(QPen(ink, 2.2))
            painter.setBrush(theme.PAPER)
            painter.drawEllipse(QPointF(self._x_of(min(max(self._value, self._low), self._high)), middle), 5.5, 5.5)
        painter.setFont(theme.mono(theme.TEXT, theme.QFont.Weight.Bold))
        painter.setPen(theme.INK if on else theme.CONTOUR)
        box = self._number()
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, tr(self._show(self._value)))

    def _move(self, value: float, fine: float = 1.0) -> None:
        """Move to a value, in steps that are ``fine`` times the usual; 0: exactly there."""
        step = self._step * fine
        value = min(self._high, max(self._low, round(value / step) * step if step else value))
        if value != self._value:
            self._value = value
            self.setAccessibleDescription(self._show(value))
            self.update()
            self.moved.emit(value, (self._words, self._gesture))

    def _number(self) -> QRectF:
        return QRectF(self.width() - self._number_width, 0, self._number_width, self.height())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._gesture += 1
        at = event.position()
        inside = self._words_width <= at.x() < self._number().left()
        self._drag = (at.x(), self._value) if event.button() == Qt.MouseButton.LeftButton and inside else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        (before, value), x = self._drag, event.position().x()
        left, right = self._line()
        fine = _FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        value += fine * (x - before) / (right - left) * (self._high - self._low)
        value = min(self._high, max(self._low, value))
        self._drag = (x, value)
        self._move(value, fine)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self._gesture += 1
        if self._number().contains(event.position()):
            self.type_value()
        else:
            self._move(self._default)

    def type_value(self) -> None:
        """Let a value be typed where the number stands."""
        box = self._number().toRect().adjusted(-theme.u(8), 1, 0, -1)
        if self._typed is None:
            self._typed = Field(self)
            self._typed.setAccessibleName(tr(f"{self._words}, a number"))
            self._typed.setAlignment(Qt.AlignmentFlag.AlignRight)
            self._typed.editingFinished.connect(self._take_typed)
            self._typed.installEventFilter(self)
        self._typed.setGeometry(box)
        self._typed.setText(f"{self._value * self._factor:.6g}")
        self._typed.selectAll()
        self._typed.show()
        self._typed.setFocus()

    def _take_typed(self) -> None:
        if self._typed is None or not self._typed.isVisible():
            return
        text = self._typed.text().replace("−", "-").replace(",", ".").strip(" dBHzms%+k")
        self._typed.hide()
        try:
            value = float(text) / self._factor
        except ValueError:
            return
        if math.isfinite(value):
            self._gesture += 1
            self._move(value, 0.0)

    def eventFilter(self, _watched: QObject, event: QEvent) -> bool:
        """Esc gives up what is typed."""
        pressed = event.type() == QEvent.Type.KeyPress
        if isinstance(event, QKeyEvent) and pressed and event.key() == Qt.Key.Key_Escape and self._typed:
            self._typed.hide()
            self.setFocus()
            return True
        return False

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.hasFocus():
            self._move(self._value + self._step * (1 if event.angleDelta().y() > 0 else -1))
        else:
            event.ignore()

    def event(self, event: QEvent) -> bool:
        """While it has the focus, the arrow keys and Return are its own."""
        own = (*_ARROWS, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if asks_first(event, own) and not event.modifiers():
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in _ARROWS:
            self._gesture += 1
            self._move(self._value + self._step * _ARROWS[event.key()])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.type_value()
        else:
            event.ignore()


_ARROWS: dict[int, int] = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_Up: 1}
