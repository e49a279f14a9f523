"""The markers of the song and the notes of a part, over the trace."""

from __future__ import annotations

import math

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.views.label_room import LabelRoom, draw_label, width_of
from isophon.app.views.trace_places import RIGHT, TracePlaces

_APART, _NAME_WIDTH = 3, 150  # pixels: of lines of markers, and the most that a name takes


def draw_markers(places: TracePlaces, painter: QPainter) -> None:
    """Named places: a dot in the overview, a line over the wave and the map, the name above them."""
    overview, ruler, wave, spectrum = places.rows()
    painter.setFont(theme.sans(theme.SMALL, theme.QFont.Weight.DemiBold))
    markers, at = places.workspace.markers_shown()
    painter.setPen(QPen(theme.DONE, 1.2))
    painter.setBrush(theme.DONE)
    for x in np.unique(np.round(places.song_x(at))):
        painter.drawEllipse(QPointF(x, overview.top() + 3), 2.6, 2.6)
    lines, metrics, room, line = places.x_of(at), painter.fontMetrics(), LabelRoom(), -math.inf
    for i in np.flatnonzero((lines >= ruler.left() - 1) & (lines <= ruler.right())):
        x = float(lines[i])
        if x < line + _APART:
            continue
        line = x
        painter.setPen(QPen(theme.DONE, 1))
        painter.drawLine(QPointF(x, ruler.bottom()), QPointF(x, spectrum.bottom()))
        name = metrics.elidedText(markers[i].name, Qt.TextElideMode.ElideRight, _NAME_WIDTH)
        wide = width_of(painter, name)
        box = QRectF(min(x + 1, ruler.right() + RIGHT - wide), ruler.bottom(), wide, wave.top() - ruler.bottom() - 1)
        if room.take(box):
            draw_label(painter, box, name, theme.DONE)
