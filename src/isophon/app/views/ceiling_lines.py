"""The ceilings of a skyline: lines, the grips on the axis, and what each is."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.views.label_room import LabelRoom, draw_label, width_of
from isophon.app.views.trace_chart import margin_left

if TYPE_CHECKING:
    from isophon.app.views.skyline_chart import SkylineChart

_TAG_HEIGHT = 18.0


def draw_ceilings(chart: SkylineChart, painter: QPainter) -> None:
    plot = chart.plot()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    tags = tags_of(chart)
    for setting, _, level, in_force in chart.ceilings():
        y = chart.y_of(level)
        style = Qt.PenStyle.SolidLine if in_force else Qt.PenStyle.DashLine
        painter.setPen(QPen(theme.OVER, 2 if in_force else 1.2, style))
        painter.drawLine(QPointF(plot.left() - 4, y), QPointF(plot.right(), y))
        painter.setPen(QPen(theme.OVER, 1))
        painter.setBrush(theme.OVER if in_force else theme.PAPER)
        painter.drawRoundedRect(tags[setting], 3, 3)
        painter.setFont(theme.mono(theme.SMALL, theme.QFont.Weight.Bold))
        painter.setPen(theme.PAPER if in_force else theme.OVER)
        painter.drawText(tags[setting], Qt.AlignmentFlag.AlignCenter, theme.signed(level))


def draw_ends(chart: SkylineChart, painter: QPainter, room: LabelRoom) -> None:
    """Which ceiling is which, where its line ends; of one that is dragged and not in force, that it is not."""
    plot = chart.plot()
    ceilings = sorted(chart.ceilings(), key=lambda one: chart.y_of(one[2]))
    painter.setFont(theme.sans(theme.SMALL))
    for i, (setting, words, level, in_force) in enumerate(ceilings):
        caption = words if in_force or setting != chart.dragged else f"{words}: no effect above the other"
        y, width = chart.y_of(level), width_of(painter, caption)
        box = QRectF(plot.right() - width, y - 17 if i == 0 else y + 2, width, 15)
        if room.take(box):
            draw_label(painter, box, caption, theme.OVER)


def tags_of(chart: SkylineChart) -> dict[str, QRectF]:
    """The grips of the ceilings on the axis, moved apart where they would overlap."""
    places = sorted((chart.y_of(level), setting) for setting, _, level, _ in chart.ceilings())
    for i in range(1, len(places)):
        crowded = _TAG_HEIGHT + 1 - (places[i][0] - places[i - 1][0])
        if crowded > 0:
            places[i - 1] = (places[i - 1][0] - (crowded / 2 if i == 1 else 0), places[i - 1][1])
            places[i] = (places[i - 1][0] + _TAG_HEIGHT + 1, places[i][1])
    return {name: QRectF(4, y - _TAG_HEIGHT / 2, margin_left() - 8, _TAG_HEIGHT) for y, name in places}
