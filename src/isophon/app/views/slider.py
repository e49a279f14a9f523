"""A setting on one line: its words, a thin line with a knob and the default's tick, its value."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from isophon.app import theme

_VALUE_WIDTH = 78


class Slider(QWidget):
    """Drag, wheel, arrow keys; double-click goes back to the default. ``moved(value, gesture)``."""

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
    ) -> None:
        super().__init__(parent)
        self._words, self._low, self._high, self._default = words, low, high, default
        self._show, self._step, self._value = show, step, default
        self._words_width = words_width or theme.text_width(words, 13) + 14
        self._gesture = 0
        self._dragging = False
        self.setMinimumHeight(26)
        self.setMinimumWidth(self._words_width + _VALUE_WIDTH + 60)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(words)

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
        self.update()

    def _line(self) -> tuple[float, float]:
        return self._words_width + 8.0, self.width() - _VALUE_WIDTH - 8.0

    def _x_of(self, value: float) -> float:
        left, right = self._line()
        return left + (value - self._low) / (self._high - self._low) * (right - left)

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = self.height() / 2
        on = self.isEnabled()
        painter.setFont(theme.sans(13))
        painter.setPen(theme.INK if on else theme.CONTOUR)
        flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, 0, self._words_width, self.height()), flags, self._words)
        left, right = self._line()
        painter.setPen(QPen(theme.CONTOUR, 2))
        painter.drawLine(QPointF(left, middle), QPointF(right, middle))
        tick = self._x_of(self._default)
        painter.setPen(QPen(theme.CONTOUR, 1.5))
        painter.drawLine(QPointF(tick, middle - 8), QPointF(tick, middle + 8))
        if on:
            ink = theme.IN_HAND if self.hasFocus() else theme.INK
            painter.setPen(QPen(ink, 2.2))
            painter.setBrush(theme.PAPER)
            painter.drawEllipse(QPointF(self._x_of(min(max(self._value, self._low), self._high)), middle), 5.5, 5.5)
        painter.setFont(theme.mono(14, theme.QFont.Weight.Bold))
        painter.setPen(theme.INK if on else theme.CONTOUR)
        box = QRectF(self.width() - _VALUE_WIDTH, 0, _VALUE_WIDTH, self.height())
        painter.drawText(box, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self._show(self._value))

    def _move(self, value: float) -> None:
        value = min(self._high, max(self._low, round(value / self._step) * self._step))
        if value != self._value:
            self._value = value
            self.update()
            self.moved.emit(value, (self._words, self._gesture))

    def _to_pointer(self, x: float) -> None:
        left, right = self._line()
        self._move(self._low + (x - left) / (right - left) * (self._high - self._low))

    def mousePressEvent(self, event) -> None:
        self._gesture += 1
        self._dragging = event.button() == Qt.MouseButton.LeftButton and event.position().x() >= self._words_width
        if self._dragging:
            self._to_pointer(event.position().x())

    def mouseMoveEvent(self, event) -> None:
        if self._dragging:
            self._to_pointer(event.position().x())

    def mouseReleaseEvent(self, event) -> None:
        self._dragging = False

    def mouseDoubleClickEvent(self, event) -> None:
        self._gesture += 1
        self._move(self._default)

    def wheelEvent(self, event) -> None:
        if self.hasFocus():
            self._move(self._value + self._step * (1 if event.angleDelta().y() > 0 else -1))
        else:
            event.ignore()

    def event(self, event) -> bool:
        """While it has the focus, the arrow keys are its own."""
        if event.type() == QEvent.Type.ShortcutOverride and event.key() in _ARROWS:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event) -> None:
        if event.key() in _ARROWS:
            self._gesture += 1
            self._move(self._value + self._step * _ARROWS[event.key()])
        else:
            event.ignore()


_ARROWS = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_Up: 1}
