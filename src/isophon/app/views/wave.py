"""The wave of a take, drawn from its picture where it is far and from its samples where it is near."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from isophon.app.views.ink import wave_image
from isophon.core.takes.pictures import WAVE_STEP
from isophon.core.takes.take import Take

_DRAW_LINE_BELOW = 2.0  # frames a pixel


def draw_wave(painter: QPainter, box: QRectF, take: Take, start: float, stop: float, ink: QColor) -> None:
    """Draw the frames from ``start`` to ``stop`` of a take that has a picture into a box, as high as its loudest."""
    assert take.wave is not None, "it has a picture"
    columns = int(box.width())
    per_column = (stop - start) / columns
    full = max(1e-6, float(np.abs(take.wave.levels[-1]).max()))
    if per_column >= WAVE_STEP:
        low, high = take.wave.columns(start, stop, columns)
        painter.drawImage(box, wave_image(low / full, high / full, int(box.height()), ink))
        return
    first, count = int(np.floor(start)), int(stop - start) + 2
    samples = take.recording.read(first, count)[0] / full
    if per_column > _DRAW_LINE_BELOW:
        bounds = (np.arange(columns) * per_column).astype(int)
        low, high = np.minimum.reduceat(samples, bounds), np.maximum.reduceat(samples, bounds)
        painter.drawImage(box, wave_image(low, high, int(box.height()), ink))
        return
    y = box.center().y() - samples * (box.height() / 2 - 1)
    x = box.left() + (first + np.arange(count) - start) / (stop - start) * box.width()
    painter.save()
    painter.setClipRect(box)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(ink, 1.2))
    painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
    painter.restore()
