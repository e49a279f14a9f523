"""What the pictures of sheets share: a frame, a scale, and when they are drawn anew."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Following
from isophon.app.translation import tr

FOOT = 15  # pixels under a picture, for its scale


class SheetPicture(Following):
    """Draws itself in a frame by :meth:`draw`; ``kind``: of the pass whose sheet it is on."""

    MOST_HIGH = 170
    kind, words = "", ""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.setMinimumHeight(theme.u(92))
        self.setAccessibleName(tr(self.words))
        self.setToolTip(self.words)
        for changed in (workspace.part_changed, workspace.selection_changed, workspace.take_changed):
            changed.connect(self._changed)

    def draw(self, painter: QPainter, box: QRectF) -> str:
        """Draw it into a box; the words that stand in the box instead where there is nothing to draw."""
        raise NotImplementedError

    def look(self) -> None:
        """Something that it shows has changed."""

    def _changed(self) -> None:
        if self.workspace.pass_.kind == self.kind:
            self.look()
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.sans(theme.SMALL))
        box = QRectF(self.rect()).adjusted(0.5, 4, -0.5, -theme.u(FOOT))
        painter.setPen(QPen(theme.RULE, 1))
        painter.drawRect(box)
        words = self.draw(painter, box)
        if words:
            painter.setPen(theme.SOFT_INK)
            wrapped = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(box.adjusted(10, 4, -10, -4), wrapped, tr(words))


class Scale:
    """From ``low`` to ``high`` across a box; ``log``: by the logarithm."""

    def __init__(self, box: QRectF, low: float, high: float, log: bool = False) -> None:
        self.box, self.low, self.high, self._log = box, low, high, log

    def x(self, values: np.ndarray | float) -> np.ndarray:
        """Where values lie."""
        ends = np.array([self.low, self.high])
        at, ends = (np.log(np.maximum(values, 1e-9)), np.log(ends)) if self._log else (np.asarray(values), ends)
        return self.box.left() + (at - ends[0]) / (ends[1] - ends[0]) * self.box.width()

    def value(self, x: float) -> float:
        """What lies at a place."""
        share = (x - self.box.left()) / self.box.width()
        if self._log:
            return float(self.low * (self.high / self.low) ** share)
        return float(self.low + share * (self.high - self.low))

    def draw(self, painter: QPainter, at: Sequence[float], words: Sequence[str]) -> None:
        """Thin lines at some values, and their words under the box; those that would overlap are left out."""
        room = self.box.left() - 4
        for value, text in zip(at, words, strict=True):
            x = float(self.x(value))
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QLineF(x, self.box.top(), x, self.box.bottom()))
            width = theme.text_width(text, theme.SMALL)
            left = min(self.box.right() - width, max(self.box.left(), x - width / 2))
            if left >= room + 4:
                painter.setPen(theme.SOFT_INK)
                painter.drawText(QPointF(left, self.box.bottom() + theme.u(11)), tr(text))
                room = left + width


def steps(low: float, high: float, most: int) -> list[float]:
    """Round values between two, at most so many."""
    sizes = (base * 10**power for power in range(-2, 5) for base in (1, 2, 5))
    size = next((size for size in sizes if (high - low) / size <= most), high - low)
    return [float(value) for value in np.arange(np.ceil(low / size), np.floor(high / size) + 1) * size]


def points(x: np.ndarray, y: np.ndarray) -> list[QPointF]:
    """Places in a picture."""
    return [QPointF(float(a), float(b)) for a, b in zip(x, y, strict=True)]


def line(x: np.ndarray, y: np.ndarray) -> QPolygonF:
    """A line through points."""
    return QPolygonF(points(x, y))


def dots(painter: QPainter, x: np.ndarray, y: np.ndarray | float, ink: QColor, filled: bool, size: float = 3.0) -> None:
    """A dot at each place."""
    painter.setPen(QPen(ink, 1.2))
    painter.setBrush(ink if filled else Qt.BrushStyle.NoBrush)
    for a, b in zip(np.atleast_1d(x), np.broadcast_to(y, np.shape(np.atleast_1d(x))), strict=True):
        painter.drawEllipse(QPointF(float(a), float(b)), theme.u(size), theme.u(size))
    painter.setBrush(Qt.BrushStyle.NoBrush)
