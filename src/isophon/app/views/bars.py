"""The bars of the skyline: what is let through, brought down, left as sung, or not sure enough."""

from __future__ import annotations

from PySide6.QtCore import QLineF, QRectF, Qt
from PySide6.QtGui import QBrush, QPainter, QPen

from isophon.app import theme
from isophon.app.views.skyline_places import SkylinePlaces
from isophon.core.marks import Mark


def draw_bars(painter: QPainter, places: SkylinePlaces, bars: list[tuple[Mark, QRectF]]) -> None:
    """All bars, those of one look at once: a long part has hundreds."""
    which = places.workspace.pass_
    part, height_of = places.workspace.part, places.heights()
    sure = getattr(getattr(part, which.kind), "sure", 0.0)
    (low, high), plot = places.range_db(), places.plot()
    floor, tall = plot.bottom(), plot.height() / (high - low)
    left_alone, changed, cut, tops, hollow, unsure = ([] for _ in range(6))
    zero = which.skyline.zero
    base = floor if zero is None else places.y_of(zero)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    change_of = which.skyline.seen_change
    for mark, bar in bars:
        change = change_of(part, mark)
        if mark.hand.leave:
            hollow.append(bar.adjusted(0.5, 0.5, -0.5, 0))
            continue
        if mark.confidence < sure and not mark.hand.any:
            unsure.append(bar)
            continue
        if not change:
            left_alone.append(bar)
            continue
        top = min(floor - 1, floor - (height_of(mark) + change - low) * tall)
        if zero is not None:
            changed.append(QRectF(bar.left(), min(top, base), bar.width(), max(1.0, abs(base - top))))
            cut.append(bar)
        elif change < 0:
            left, first, width, height = bar.left(), bar.top(), bar.width(), bar.height()
            changed.append(QRectF(left, top, width, first + height - top))
            cut.append(QRectF(left, first, width, top - first))
            tops.append(QLineF(left, first, left + width, first))
        else:
            left_alone.append(QRectF(bar.left(), top, bar.width(), bar.bottom() - top))
    painter.setPen(Qt.PenStyle.NoPen)
    for ink, boxes in ((theme.SOFT_INK, left_alone), (theme.OVER_FAINT, cut), (theme.INK, changed)):
        painter.setBrush(ink)
        painter.drawRects(boxes)
    painter.setBrush(QBrush(theme.SOFT_INK, Qt.BrushStyle.Dense5Pattern))
    painter.drawRects(unsure)
    painter.setPen(QPen(theme.SOFT_INK, 1.3))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRects(hollow)
    painter.setPen(QPen(theme.OVER, 2))
    painter.drawLines(tops)
    painter.setPen(QPen(theme.CONTOUR, 1.3))
    partner_height = places.workspace.pass_.skyline.partner_height
    for mark, bar in bars if zero is None else ():
        lead_height = partner_height(mark)
        if lead_height is not None:
            top = places.y_of(lead_height)
            painter.drawRect(QRectF(bar.left() - 2.5, top, bar.width() + 5, floor - top))
