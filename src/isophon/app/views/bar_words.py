"""What stands at the bars of the skyline: letters under them, numbers over them, flags of what a hand decided."""

from __future__ import annotations

from bisect import bisect_left

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.translation import tr
from isophon.app.views.label_room import LabelRoom, draw_label, width_of
from isophon.app.views.skyline_places import BAR, BOTTOM, SkylinePlaces
from isophon.core.marks import GONE_DB, Mark

_LEAST_APART = 6.0  # pixels a bar, for letters under them


def draw_letters(painter: QPainter, places: SkylinePlaces, bars: list[tuple[Mark, QRectF]]) -> None:
    """What each mark is, under its bar, where the letters would not run into each other."""
    painter.setFont(theme.sans(theme.SMALL))
    painter.setPen(theme.INK)
    height, letter_of, room = BOTTOM + 2, places.workspace.pass_.words.letter, LabelRoom()
    if len(bars) * _LEAST_APART > places.width:
        return
    for x, i in sorted((bar.center().x(), i) for i, (_, bar) in enumerate(bars)):
        mark, bar = bars[i]
        if letter := letter_of(mark):
            wide = width_of(painter, letter)
            box = QRectF(x - wide / 2, bar.bottom() - 1, wide, height)
            if room.take(box):
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tr(letter))


def draw_frame(painter: QPainter, bar: QRectF, line: Qt.PenStyle = Qt.PenStyle.SolidLine) -> None:
    """A frame around a selected mark; dotted: around one that something would touch."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(theme.SELECTED, 2, line))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(bar.adjusted(-4, -3, 4, 0))


def draw_flag(painter: QPainter, places: SkylinePlaces, mark: Mark, bar: QRectF) -> None:
    """A flag at a mark that a hand changed."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    top = places.y_of(places.stands_out(mark) + places.workspace.part.change(mark))
    pole = QPointF(bar.right() + 3, min(bar.bottom() - 1, top))
    painter.setPen(QPen(theme.HAND_FLAG, 1.5))
    painter.drawLine(pole, pole + QPointF(0, -13))
    painter.setBrush(theme.HAND_FLAG)
    painter.drawPolygon(QPolygonF([pole + QPointF(0, -13), pole + QPointF(9, -10), pole + QPointF(0, -7)]))


def draw_numbers(painter: QPainter, places: SkylinePlaces, bars: list[tuple[Mark, QRectF]], room: LabelRoom) -> None:
    """What is done to marks, over their bars, wherever that covers neither a bar nor another label."""
    painter.setFont(theme.mono(theme.SMALL))
    plot = places.plot()
    in_hand, labels = set(places.workspace.selected_marks), _words(places, bars)
    boxes = sorted((bar for _, bar in bars), key=QRectF.left)
    lefts = [box.left() for box in boxes]
    for mark, bar, text, ink in sorted(labels, key=lambda one: one[0].id not in in_hand):
        width = width_of(painter, text)
        left = min(max(plot.left(), bar.center().x() - width / 2), plot.right() - width)
        box = QRectF(left, bar.top() - 19, width, 15)
        near = boxes[bisect_left(lefts, box.left() - BAR) : bisect_left(lefts, box.right())]
        covers = any(box.intersects(other) for other in near if other is not bar)
        if (covers and mark.id not in in_hand) or not room.take(box):
            continue
        draw_label(painter, box, text, theme.SELECTED if mark.id in in_hand else ink)


def _words(places: SkylinePlaces, bars: list[tuple[Mark, QRectF]]) -> list[tuple[Mark, QRectF, str, QColor]]:
    """What is done to the marks in a word or number, and its ink; not those that are let through."""
    part = places.workspace.part
    gone, labels = places.workspace.pass_.words.gone(part), []
    for mark, bar in bars:
        change = places.workspace.pass_.skyline.seen_change(part, mark)
        if mark.hand.leave:
            labels.append((mark, bar, "as sung", theme.SOFT_INK))
        elif change <= -0.05 or (change and places.workspace.pass_.skyline.zero is not None):
            labels.append((mark, bar, gone if change <= GONE_DB and gone else theme.signed(change), theme.OVER))
    return labels


def room_for_numbers(places: SkylinePlaces, bars: list[tuple[Mark, QRectF]]) -> bool:
    """Whether the numbers over the bars that change would mostly not run into each other."""
    part = places.workspace.part
    centres = sorted(bar.center().x() for mark, bar in bars if part.acts(mark))
    return len(centres) < 2 or float(np.median(np.diff(centres))) > 38
