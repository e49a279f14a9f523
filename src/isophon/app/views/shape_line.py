"""The change of the mark in hand along its time: a line over the cleaned picture, with points to drag."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.core.marks import Mark

HIGHEST_DB, DEEPEST_DB = 6.0, -30.0
_GRAB = 8


class ShapeLine:
    """Double-click makes a point or takes one away; dragging moves it; the ends of the line follow their neighbours."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._taken: int | None = None
        self._gesture = 0

    def draw(self, painter: QPainter, box: QRectF, mark: Mark) -> None:
        """The line over a mark's box."""
        painter.setPen(QPen(theme.HAND_FLAG if mark.hand.shape else theme.SOFT_INK, 1.6))
        painter.drawPolyline(QPolygonF([QPointF(*self._at(box, mark, share)) for share in np.linspace(0, 1, 40)]))
        painter.setBrush(theme.PAPER)
        for share, _ in mark.hand.shape:
            painter.drawEllipse(QPointF(*self._at(box, mark, share)), 4, 4)

    def under(self, box: QRectF, mark: Mark, at: QPointF) -> int | None:
        """The point of the line that lies under the pointer."""
        places = [QPointF(*self._at(box, mark, share)) for share, _ in mark.hand.shape]
        near = [(abs(p.x() - at.x()) + abs(p.y() - at.y()), i) for i, p in enumerate(places)]
        return min(near)[1] if near and min(near)[0] <= 2 * _GRAB else None

    def press(self, box: QRectF, mark: Mark, at: QPointF) -> bool:
        """Take a point; whether there is one."""
        self._taken = self.under(box, mark, at)
        self._gesture += 1
        return self._taken is not None

    def move(self, box: QRectF, mark: Mark, at: QPointF) -> None:
        """Drag the point that was taken, not past its neighbours."""
        points = list(mark.hand.shape)
        if self._taken is None or self._taken >= len(points):
            return
        share, db = self._value(box, mark, at)
        low = points[self._taken - 1][0] if self._taken else 0.0
        high = points[self._taken + 1][0] if self._taken + 1 < len(points) else 1.0
        points[self._taken] = (min(high, max(low, share)), db)
        self.workspace.set_shape(tuple(points), ("shape", self._gesture))

    def double_click(self, box: QRectF, mark: Mark, at: QPointF) -> bool:
        """Make a point, or take away the one that is there; whether the pointer was over the mark."""
        if not box.adjusted(-_GRAB, 0, _GRAB, 0).contains(at):
            return False
        there, points = self.under(box, mark, at), list(mark.hand.shape)
        if there is None:
            points.append(self._value(box, mark, at))
        else:
            points.pop(there)
        self.workspace.set_shape(tuple(sorted(points)))
        return True

    def _at(self, box: QRectF, mark: Mark, share: float) -> tuple[float, float]:
        shape = mark.hand.shape
        more = float(np.interp(share, [p[0] for p in shape], [p[1] for p in shape])) if shape else 0.0
        db = min(HIGHEST_DB, max(DEEPEST_DB, self.workspace.part.change(mark) + more))
        return box.left() + share * box.width(), box.top() + (HIGHEST_DB - db) / (
            HIGHEST_DB - DEEPEST_DB
        ) * box.height()

    def _value(self, box: QRectF, mark: Mark, at: QPointF) -> tuple[float, float]:
        """The share of the mark at a place, and the dB that are added to its change there."""
        share = min(1.0, max(0.0, (at.x() - box.left()) / max(1.0, box.width())))
        db = HIGHEST_DB - (at.y() - box.top()) / max(1.0, box.height()) * (HIGHEST_DB - DEEPEST_DB)
        return share, min(HIGHEST_DB, max(DEEPEST_DB, db)) - self.workspace.part.change(mark)
