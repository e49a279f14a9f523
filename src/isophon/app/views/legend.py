"""What the signs of a pass mean, on request."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr

_ROW, _SIGN, _EDGE = 24, 40, 12
Draw = Callable[[QPainter, QRectF], None]


class Legend(QFrame):
    """Opens over the map; a click anywhere else closes it."""

    def __init__(self, workspace: Workspace, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.workspace = workspace
        self.setAccessibleName(tr("What the signs mean"))

    def rows(self) -> list[tuple[str, Draw]]:
        """Words, and what draws the sign before them."""
        which = self.workspace.pass_

        def shape(ink: QColor, filled: bool) -> Draw:
            def draw(painter: QPainter, box: QRectF) -> None:
                painter.setPen(QPen(ink, 1.5))
                painter.setBrush(ink if filled else Qt.BrushStyle.NoBrush)
                painter.drawPath(which.shape(box.center().x(), box.center().y() - 4, 5.0))

            return draw

        def swatch(ink: QColor, strength: float) -> Draw:
            def draw(painter: QPainter, box: QRectF) -> None:
                colour = ink.toRgb()
                colour.setAlphaF(strength)
                painter.fillRect(box.adjusted(6, 4, -6, -4), colour)

            return draw

        def line(painter: QPainter, box: QRectF) -> None:
            painter.setPen(QPen(theme.SOFT_INK, 1, Qt.PenStyle.DashLine))
            y = box.center().y()
            painter.drawLine(QPointF(box.left() + 6, y), QPointF(box.right() - 6, y))

        def flag(painter: QPainter, box: QRectF) -> None:
            painter.fillRect(QRectF(box.center().x() - 1, box.top() + 4, 2, box.height() - 8), theme.HAND_FLAG)
            painter.fillRect(QRectF(box.center().x(), box.top() + 4, 8, 6), theme.HAND_FLAG)

        return [
            ("in the map: what is left of the part", swatch(theme.INK, 0.75)),
            ("what the cleaning removes", swatch(theme.OVER, 0.5)),
            ("what it adds", swatch(theme.ADDED, 0.5)),
            ("equal level, 6 dB apart", line),
            (f"{which.an}, over its ceiling", shape(theme.OVER, True)),
            (f"{which.an}, let through", shape(theme.SOFT_INK, False)),
            ("selected", shape(theme.SELECTED, True)),
            ("set by hand", flag),
        ]

    def sizeHint(self) -> QSize:
        rows = self.rows()
        wide = max(theme.text_width(words, theme.TEXT) for words, _ in rows)
        return QSize(wide + theme.u(_SIGN) + 2 * _EDGE, theme.u(_ROW) * len(rows) + 2 * _EDGE)

    def open_over(self, button: QPushButton) -> None:
        """Open above a button."""
        self.resize(self.sizeHint())
        self.move(button.mapToGlobal(QPoint(0, -self.height() - 4)))
        self.show()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.PAPER)
        painter.setPen(QPen(theme.CONTOUR, 1))
        painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        row, sign = theme.u(_ROW), theme.u(_SIGN)
        for i, (words, draw) in enumerate(self.rows()):
            top = _EDGE + i * row
            draw(painter, QRectF(_EDGE, top, sign - 8, row))
            painter.setFont(theme.sans(theme.TEXT))
            painter.setPen(theme.INK)
            box = QRectF(_EDGE + sign, top, self.width(), row)
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, tr(words))
