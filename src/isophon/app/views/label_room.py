"""Labels that never lie over one another: each takes its place, and what finds none is left out."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from isophon.app import theme

SIZE = 11  # pixels, of all labels in map and skyline
_GROUND_ALPHA = 225


class LabelRoom:
    """The places that are taken in one picture."""

    def __init__(self) -> None:
        self._taken: list[QRectF] = []

    def free(self, box: QRectF) -> bool:
        """Whether no label lies there."""
        return not any(box.intersects(other) for other in self._taken)

    def take(self, box: QRectF) -> bool:
        """Take a place, if it is free; whether it was."""
        free = self.free(box)
        if free:
            self._taken.append(box)
        return free


def width_of(painter: QPainter, text: str) -> float:
    """The room that a label needs."""
    return painter.fontMetrics().horizontalAdvance(text) + 6.0


def draw_label(painter: QPainter, box: QRectF, text: str, ink: QColor) -> None:
    """A label on the ground that all labels have; in the font of the painter."""
    ground = theme.PAPER.toRgb()
    ground.setAlpha(_GROUND_ALPHA)
    painter.fillRect(box, ground)
    painter.setPen(ink)
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
