"""The change of the selected mark as a line over the cleaned picture, with points to drag: along its time, or over
frequency."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.core.marks import Mark

HIGHEST_DB, DEEPEST_DB = 6.0, -30.0
_GRAB, _DRAWN = 8, 40
Points = tuple[tuple[float, float], ...]


class ShapeLine:
    """Along the mark's time: (share of the mark, dB).

    Double-click makes a point or takes one away; dragging moves it; the ends of the line follow their neighbours.
    """

    highest_db, deepest_db = HIGHEST_DB, DEEPEST_DB

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._taken: int | None = None
        self._gesture = 0

    def draw(self, painter: QPainter, box: QRectF, mark: Mark) -> None:
        """The line over a mark's box."""
        points = self.points(mark)
        painter.setPen(QPen(theme.HAND_FLAG if points else theme.SOFT_INK, 1.6))
        line = [self._at(box, mark, share) for share in np.linspace(0, 1, _DRAWN)]
        painter.drawPolyline(QPolygonF(line))
        painter.setBrush(theme.PAPER)
        for share, _ in self._shares(mark):
            painter.drawEllipse(self._at(box, mark, share), 4, 4)

    def under(self, box: QRectF, mark: Mark, at: QPointF) -> int | None:
        """The point of the line that lies under the pointer."""
        places = [self._at(box, mark, share) for share, _ in self._shares(mark)]
        near = [(abs(p.x() - at.x()) + abs(p.y() - at.y()), i) for i, p in enumerate(places)]
        return min(near)[1] if near and min(near)[0] <= 2 * _GRAB else None

    def press(self, box: QRectF, mark: Mark, at: QPointF) -> bool:
        """Take a point; whether there is one."""
        self._taken = self.under(box, mark, at)
        self._gesture += 1
        return self._taken is not None

    def move(self, box: QRectF, mark: Mark, at: QPointF) -> None:
        """Drag the point that was taken, not past its neighbours."""
        points = list(self._shares(mark))
        if self._taken is None or self._taken >= len(points):
            return
        share, db = self._value(box, mark, at)
        low = points[self._taken - 1][0] if self._taken else 0.0
        high = points[self._taken + 1][0] if self._taken + 1 < len(points) else 1.0
        points[self._taken] = (min(high, max(low, share)), db)
        self.keep(mark, tuple(points), (type(self).__name__, self._gesture))

    def double_click(self, box: QRectF, mark: Mark, at: QPointF) -> bool:
        """Make a point, or take away the one that is there; whether the pointer was over the mark."""
        if not box.adjusted(-_GRAB, -_GRAB, _GRAB, _GRAB).contains(at):
            return False
        there, points = self.under(box, mark, at), list(self._shares(mark))
        if there is None:
            points.append(self._value(box, mark, at))
        else:
            points.pop(there)
        self.keep(mark, tuple(sorted(points)))
        return True

    # what another line has otherwise

    def points(self, mark: Mark) -> Points:
        """The points that were set."""
        return mark.hand.shape

    def keep(self, _mark: Mark, shares: Points, gesture: object = None) -> None:
        """Set the points, given by their shares of the line."""
        self.workspace.commands.set_shape(shares, gesture)

    def _shares(self, mark: Mark) -> Points:
        """The points by how far along the line they are, 0 to 1."""
        return self.points(mark)

    def _placed(self, box: QRectF, share: float, db: float) -> QPointF:
        """Where a point lies; ``db``: 0 for the deepest change, 1 for the highest."""
        return QPointF(box.left() + share * box.width(), box.bottom() - db * box.height())

    def _share_at(self, box: QRectF, at: QPointF) -> tuple[float, float]:
        """How far along the line a place is, and how high, each 0 to 1."""
        return (at.x() - box.left()) / max(1.0, box.width()), (box.bottom() - at.y()) / max(1.0, box.height())

    def _at(self, box: QRectF, mark: Mark, share: float) -> QPointF:
        shape = self._shares(mark)
        more = float(np.interp(share, [p[0] for p in shape], [p[1] for p in shape])) if shape else 0.0
        db = min(self.highest_db, max(self.deepest_db, self.workspace.part.change(mark) + more))
        return self._placed(box, share, (db - self.deepest_db) / (self.highest_db - self.deepest_db))

    def _value(self, box: QRectF, mark: Mark, at: QPointF) -> tuple[float, float]:
        """The share of the line at a place, and the dB that are added to the mark's change there."""
        share, height = (min(1.0, max(0.0, value)) for value in self._share_at(box, at))
        db = self.deepest_db + height * (self.highest_db - self.deepest_db)
        return share, db - self.workspace.part.change(mark)


class CurveLine(ShapeLine):
    """Over frequency, from the bottom of the box to its top: (Hz, dB), the deepest at the left."""

    highest_db, deepest_db = 12.0, -36.0

    def points(self, mark: Mark) -> Points:
        return mark.hand.curve

    def keep(self, mark: Mark, shares: Points, gesture: object = None) -> None:
        low, octaves = self._band(mark)
        self.workspace.commands.set_curve(tuple((low * 2 ** (octaves * share), db) for share, db in shares), gesture)

    def _shares(self, mark: Mark) -> Points:
        low, octaves = self._band(mark)
        return tuple((math.log2(max(1.0, hz) / low) / octaves, db) for hz, db in mark.hand.curve)

    def _placed(self, box: QRectF, share: float, db: float) -> QPointF:
        return QPointF(box.left() + db * box.width(), box.bottom() - share * box.height())

    def _share_at(self, box: QRectF, at: QPointF) -> tuple[float, float]:
        return (box.bottom() - at.y()) / max(1.0, box.height()), (at.x() - box.left()) / max(1.0, box.width())

    def _band(self, mark: Mark) -> tuple[float, float]:
        """The lowest frequency of the box that is seen, and how many octaves it has."""
        axis = self.workspace.pass_.lens_axis
        low, high = self.workspace.pass_.lens.box(mark, axis)
        low, high = max(low, axis.low), min(high or axis.high, axis.high)
        return low, math.log2(max(high, 1.01 * low) / low)


LINES = {"time": ShapeLine, "frequency": CurveLine}
