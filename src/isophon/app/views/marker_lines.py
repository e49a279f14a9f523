"""The markers of the song and the notes of a part, over the trace."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.views.label_room import LabelRoom, draw_label, width_of

if TYPE_CHECKING:
    from isophon.app.views.trace_chart import TraceChart

_APART, _NAME_WIDTH = 3, 150  # pixels: of lines of markers, and the most that a name takes


def draw_markers(
    chart: TraceChart, painter: QPainter, overview: QRectF, ruler: QRectF, wave: QRectF, spectrum: QRectF
) -> None:
    """Named places: a dot in the overview, a line over the wave and the map, the name above them."""
    painter.setFont(theme.sans(theme.SMALL, theme.QFont.Weight.DemiBold))
    markers, at = chart.workspace.markers_shown()
    painter.setPen(QPen(theme.DONE, 1.2))
    painter.setBrush(theme.DONE)
    for x in np.unique(np.round(chart.song_x(at))):
        painter.drawEllipse(QPointF(x, overview.top() + 3), 2.6, 2.6)
    places, metrics, room, line = chart.x_of(at), painter.fontMetrics(), LabelRoom(), -math.inf
    for i in np.flatnonzero((places >= ruler.left() - 1) & (places <= ruler.right())):
        x = float(places[i])
        if x < line + _APART:
            continue
        line = x
        painter.setPen(QPen(theme.DONE, 1))
        painter.drawLine(QPointF(x, ruler.bottom()), QPointF(x, spectrum.bottom()))
        name = metrics.elidedText(markers[i].name, Qt.TextElideMode.ElideRight, _NAME_WIDTH)
        wide = width_of(painter, name)
        box = QRectF(min(x + 1, chart.width() - wide), ruler.bottom(), wide, wave.top() - ruler.bottom() - 1)
        if room.take(box):
            draw_label(painter, box, name, theme.DONE)
