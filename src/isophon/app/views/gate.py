"""Fades over the wave: where something is turned down, and how far."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.views.ground import Ground
from isophon.core.marks import GONE_DB
from isophon.core.passes.fades import Fade, edges_of, gains_at


def draw_fades(painter: QPainter, ground: Ground) -> None:
    """Where a part is faded, over its wave."""
    (start, end), rate = ground.view, ground.workspace.take.recording.sample_rate
    fades = [t for t in ground.workspace.part.plan
             if isinstance(t, Fade) and t.last > start * rate and t.first < end * rate]  # fmt: skip
    draw_gate(painter, ground.wave.adjusted(0, 1, 0, 0), fades, start * rate, end * rate)


def draw_gate(painter: QPainter, box: QRectF, fades: list[Fade], first: float, last: float) -> None:
    """What fades do over the frames ``first`` to ``last``: no change at the top of the box, all gone at its bottom."""
    scale = box.width() / (last - first)
    points = [QPointF(box.left(), box.top())]
    for fade in fades:
        for at in edges_of(fade):
            down = -20 * np.log10(np.maximum(gains_at(fade, at), 10 ** (GONE_DB / 20)))
            points += [QPointF(box.left() + (t - first) * scale, box.top() - d / GONE_DB * box.height())
                       for t, d in zip(at, down, strict=True)]  # fmt: skip
    points.append(QPointF(box.right(), box.top()))
    shade = theme.DONE.toRgb()
    shade.setAlpha(46)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(shade)
    painter.drawPolygon(QPolygonF(points))
    painter.setPen(QPen(theme.DONE, 1.6))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPolyline(QPolygonF(points))


def draw_warnings(painter: QPainter, box: QRectF, places: list[float]) -> None:
    """A small cairn at places where a cut comes close to a word."""
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(theme.OVER)
    for x in places:
        painter.drawPolygon(QPolygonF([QPointF(x - 5, box.bottom()), QPointF(x + 5, box.bottom()),
                                       QPointF(x, box.bottom() - 10)]))  # fmt: skip
