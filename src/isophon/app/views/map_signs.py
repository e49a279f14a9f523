"""Signs on the map: the ruler of time, and the shapes of marks, drawn once and stamped."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap

from isophon.app import theme
from isophon.app.model.passes import Pass
from isophon.app.translation import tr
from isophon.core.session.bars import Bars

_STEPS = (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300)
_APART, _BARS_APART = 74, 44


@lru_cache(maxsize=4)
def bar_lines(bars: Bars, end_s: float) -> np.ndarray:
    """Where the bars of a song begin, in s of the song."""
    return bars.lines(end_s)


def draw_ruler(painter: QPainter, box: QRectF, start: float, end: float, bars: Bars | None = None) -> None:
    """Ticks and times from ``start`` to ``end`` s of the song, at round steps that leave room for their numbers.

    ``bars``: of a song that is to be counted in bars.
    """
    if bars is not None and bars.tempos:
        _draw_bars(painter, box, start, end, bar_lines(bars, 10.0 * np.ceil(end / 10.0)))
        return
    scale = box.width() / (end - start)
    step = next((s for s in _STEPS if s * scale >= _APART), _STEPS[-1])
    digits = 3 if step < 0.01 else 2 if step < 0.1 else 1 if step < 1 else 0
    painter.setFont(theme.mono(theme.SMALL))
    for i in range(int(np.ceil(start / step)), int(end / step) + 1):
        x = box.left() + (i * step - start) * scale
        painter.setPen(theme.CONTOUR)
        painter.drawLine(QPointF(x, box.bottom() - 5), QPointF(x, box.bottom()))
        painter.setPen(theme.SOFT_INK)
        if x > box.right() - 20:
            continue
        minutes, seconds = divmod(abs(i * step), 60)
        sign = "−" if i < 0 else ""
        text = f"{sign}{int(minutes)}:{seconds:0{digits + 3 if digits else 2}.{digits}f}"
        painter.drawText(QRectF(x - 40, box.top(), 80, box.height() - 6), Qt.AlignmentFlag.AlignCenter, tr(text))


def _draw_bars(painter: QPainter, box: QRectF, start: float, end: float, lines: np.ndarray) -> None:
    """Ticks where bars begin, and the numbers of as many as there is room for."""
    seen = np.flatnonzero((lines >= start) & (lines <= end))
    if not len(seen):
        return
    places = box.left() + (lines[seen] - start) * box.width() / (end - start)
    every = 1
    while len(seen) > every * box.width() / _BARS_APART:
        every *= 2
    painter.setFont(theme.mono(theme.SMALL))
    named = seen % every == 0
    for number, x in zip(seen[named], places[named], strict=True):
        painter.setPen(theme.CONTOUR)
        painter.drawLine(QPointF(x, box.bottom() - 5), QPointF(x, box.bottom()))
        painter.setPen(theme.SOFT_INK)
        if x <= box.right() - 12:
            text = QRectF(x - 40, box.top(), 80, box.height() - 6)
            painter.drawText(text, Qt.AlignmentFlag.AlignCenter, str(number + 1))


class Stamps:
    """The shapes of the passes' marks as small pictures."""

    def __init__(self) -> None:
        self._made: dict[object, QPixmap] = {}

    def of(self, which: Pass, ink: QColor, filled: bool, ratio: float) -> QPixmap:
        """The shape of a pass's mark in an ink, 16 × 16."""
        key = (which.kind, ink.rgb(), filled, ratio)
        if key not in self._made:
            pixmap = QPixmap(QSize(16, 16) * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(Qt.GlobalColor.transparent)
            painter = QPainter(pixmap)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(ink, 1.5))
            painter.setBrush(ink if filled else Qt.BrushStyle.NoBrush)
            painter.drawPath(which.shape(8, 4, 4.2))
            painter.end()
            self._made[key] = pixmap
        return self._made[key]
