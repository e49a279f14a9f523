"""The ceilings of a skyline: lines, the grips on the axis, and what each is."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.views.label_room import LabelRoom, draw_label, width_of
from isophon.app.views.skyline_places import SkylinePlaces


def draw_ceilings(places: SkylinePlaces, painter: QPainter) -> None:
    """The lines, that in force solid, and their grips."""
    plot = places.plot()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    tags = places.tags()
    for setting, _, level, in_force in places.ceilings():
        y = places.y_of(level)
        style = Qt.PenStyle.SolidLine if in_force else Qt.PenStyle.DashLine
        painter.setPen(QPen(theme.OVER, 2 if in_force else 1.2, style))
        painter.drawLine(QPointF(plot.left() - 4, y), QPointF(plot.right(), y))
        painter.setPen(QPen(theme.OVER, 1))
        painter.setBrush(theme.OVER if in_force else theme.PAPER)
        painter.drawRoundedRect(tags[setting], 3, 3)
        painter.setFont(theme.mono(theme.SMALL, theme.QFont.Weight.Bold))
        painter.setPen(theme.PAPER if in_force else theme.OVER)
        painter.drawText(tags[setting], Qt.AlignmentFlag.AlignCenter, theme.signed(level))


def draw_ends(places: SkylinePlaces, painter: QPainter, room: LabelRoom, dragged: str) -> None:
    """Which ceiling is which, where its line ends; of one that is dragged and not in force, that it is not.

    ``dragged``: the setting of the ceiling that is dragged, or nothing.
    """
    plot = places.plot()
    ceilings = sorted(places.ceilings(), key=lambda one: places.y_of(one[2]))
    painter.setFont(theme.sans(theme.SMALL))
    for i, (setting, words, level, in_force) in enumerate(ceilings):
        caption = words if in_force or setting != dragged else f"{words}: no effect above the other"
        y, width = places.y_of(level), width_of(painter, caption)
        box = QRectF(plot.right() - width, y - 17 if i == 0 else y + 2, width, 15)
        if room.take(box):
            draw_label(painter, box, caption, theme.OVER)
