"""The curve of a spot: points of frequency and change, drawn where they are wanted."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPen

from isophon.app import theme
from isophon.app.sheets.picture import FOOT, Scale, SheetPicture, dots, line
from isophon.app.translation import tr

_LOW_HZ, _HIGH_HZ = 60.0, 16_000.0
_LEAST_DB, _MOST_DB = -36.0, 12.0
_NEAR = 9  # pixels


class SpotCurve(SheetPicture):
    """Double-click: a point, or none there any more; drag: it moves."""

    kind = "spot"
    words = "Change over frequency inside the selected box. Double-click: a point, or delete it; drag: move it"

    def __init__(self, *arguments: object) -> None:
        super().__init__(*arguments)  # type: ignore[arg-type]
        self._drag: tuple[int, int] | None = None  # which point, and which gesture
        self._gestures = 0

    def draw(self, painter: QPainter, box: QRectF) -> str:
        """Draw it into a box."""
        mark = self.workspace.mark
        if mark is None or mark.kind != self.kind:
            return "Select a spot to draw its curve over frequency."
        scale = Scale(box, _LOW_HZ, _HIGH_HZ, log=True)
        scale.draw(painter, (100, 300, 1_000, 3_000, 10_000), ("100 Hz", "300", "1k", "3k", "10k"))
        zero = float(self._y(box, 0.0))
        painter.setPen(QPen(theme.CONTOUR, 1))
        painter.drawLine(QLineF(box.left(), zero, box.right(), zero))
        points = np.array(mark.hand.curve or [(_LOW_HZ, 0.0)])
        hz = np.geomspace(_LOW_HZ, _HIGH_HZ, 160)
        change = np.interp(np.log(hz), np.log(np.maximum(points[:, 0], 1)), points[:, 1])
        painter.setPen(QPen(theme.HAND_FLAG, 2))
        painter.drawPolyline(line(scale.x(hz), self._y(box, change)))
        if mark.hand.curve:
            dots(painter, scale.x(points[:, 0]), self._y(box, points[:, 1]), theme.HAND_FLAG, True, 3.5)
        painter.setPen(theme.SOFT_INK)
        words = "added to the spot’s change" if mark.hand.curve else "double-click: a point of the curve"
        painter.drawText(QPointF(box.left() + 5, box.top() + theme.u(11)), tr(words))
        return ""

    @staticmethod
    def _y(box: QRectF, db: np.ndarray | float) -> np.ndarray:
        return box.top() + (_MOST_DB - np.asarray(db)) / (_MOST_DB - _LEAST_DB) * box.height()

    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(0.5, 4, -0.5, -theme.u(FOOT))

    def _point(self, place: QPointF) -> tuple[float, float]:
        box = self._box()
        hz = Scale(box, _LOW_HZ, _HIGH_HZ, log=True).value(place.x())
        db = _MOST_DB - (place.y() - box.top()) / box.height() * (_MOST_DB - _LEAST_DB)
        return round(min(_HIGH_HZ, max(_LOW_HZ, hz)), 1), round(min(_MOST_DB, max(_LEAST_DB, db)), 1)

    def _near(self, place: QPointF) -> int | None:
        box, points = self._box(), self._points()
        if not points:
            return None
        x = Scale(box, _LOW_HZ, _HIGH_HZ, log=True).x(np.array([hz for hz, _ in points]))
        away = np.hypot(x - place.x(), self._y(box, np.array([db for _, db in points])) - place.y())
        return int(away.argmin()) if away.min() <= theme.u(_NEAR) else None

    def _points(self) -> list[tuple[float, float]]:
        mark = self.workspace.mark
        return list(mark.hand.curve) if mark is not None and mark.kind == self.kind else []

    def mousePressEvent(self, event: QMouseEvent) -> None:
        near = self._near(event.position())
        if event.button() == Qt.MouseButton.LeftButton and near is not None:
            self._gestures += 1
            self._drag = near, self._gestures

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            return
        index, gesture = self._drag
        points = self._points()
        if index < len(points):
            low = points[index - 1][0] * 1.01 if index else _LOW_HZ
            high = points[index + 1][0] / 1.01 if index + 1 < len(points) else _HIGH_HZ
            hz, db = self._point(event.position())
            points[index] = min(high, max(low, hz)), db
            self.workspace.commands.set_curve(tuple(points), ("curve", gesture))

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        mark, points, near = self.workspace.mark, self._points(), self._near(event.position())
        if mark is None or mark.kind != self.kind:
            return
        if near is not None:
            points.pop(near)
        else:
            points = sorted([*points, self._point(event.position())])
        self.workspace.commands.set_curve(tuple(points))
