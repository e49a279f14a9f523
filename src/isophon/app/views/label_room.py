"""Labels that never lie over one another: each takes its place, and what finds none is left out."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from isophon.app import theme
from isophon.app.translation import tr

_GROUND_ALPHA, _COLUMN = 225, 64


class LabelRoom:
    """The places that are taken in one picture."""

    def __init__(self) -> None:
        self._taken: dict[int, list[QRectF]] = {}  # by the columns that they touch, since there may be many

    def take(self, box: QRectF) -> bool:
        """Take a place, if it is free; whether it was."""
        columns = range(int(box.left() // _COLUMN), int(box.right() // _COLUMN) + 1)
        if any(box.intersects(other) for column in columns for other in self._taken.get(column, ())):
            return False
        for column in columns:
            self._taken.setdefault(column, []).append(box)
        return True


def width_of(painter: QPainter, text: str) -> float:
    """The room that a label needs."""
    return painter.fontMetrics().horizontalAdvance(tr(text)) + 6.0


def draw_label(painter: QPainter, box: QRectF, text: str, ink: QColor) -> None:
    """A label on the ground that all labels have; in the font of the painter."""
    ground = theme.PAPER.toRgb()
    ground.setAlpha(_GROUND_ALPHA)
    painter.fillRect(box, ground)
    painter.setPen(ink)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tr(text))
