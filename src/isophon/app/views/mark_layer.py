"""The marks on the trace: where they lie over the wave and the spectrogram, and what is done there."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.views.frequencies import band_of
from isophon.app.views.ground import Ground
from isophon.app.views.label_room import LabelRoom, draw_label, width_of
from isophon.app.views.map_signs import Stamps
from isophon.core.passes import KINDS

_RIDE_DB = 12.0
_CLOSE = 16.0  # pixels a mark, for its shape
_STAMP = 3.0  # pixels: nearer stamps of one look cannot be told apart
_WHOLE = 0.99  # of the take: a mark without a place in time


class MarkLayer:
    """Draws the marks of the pass that is open; ``x_of(seconds)``: the place of a time."""

    def __init__(self, workspace: Workspace, x_of: Callable[[float], float]) -> None:
        self.workspace, self._x_of = workspace, x_of
        self._stamps = Stamps()

    def draw(self, painter: QPainter, wave: QRectF, spectrum: QRectF, ratio: float) -> None:
        """All but what is selected, within the rows of the wave and the spectrogram."""
        part, ceiling = self.workspace.part, self.workspace.ceiling
        start, end = self.workspace.viewport.span
        painter.save()
        painter.setClipRect(QRectF(wave.left(), 0, wave.width(), spectrum.bottom() + 8))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        y, x0, scale = wave.bottom() + 4, wave.left(), wave.width() / (end - start)
        drawn: dict[tuple[bool, bool], list[tuple[float, float]]] = {}
        height_of, over_frequency = self.workspace.pass_.skyline.height, self.workspace.pass_.skyline.over_frequency
        whole_s = _WHOLE * self.workspace.take.source.duration if over_frequency else math.inf
        acts = part.acts
        own = self.workspace.pass_.trace.draw
        if own is not None:
            own(painter, Ground(self.workspace, wave, spectrum, self._x_of))
        for mark in self.workspace.marks_seen(int(wave.width())):
            first, last = mark.span
            if last < start or first > end or last - first >= whole_s:
                continue  # out of view, or a ridge, drawn across
            over = height_of(mark) > ceiling or acts(mark)
            left, right = x0 + (first - start) * scale, x0 + (last - start) * scale
            drawn.setdefault((over, mark.hand.leave), []).append((left, max(right, left + 1)))
        far = wave.width() < _CLOSE * sum(map(len, drawn.values()))
        for (over, left_alone), spans in drawn.items():
            ink = theme.OVER if over else theme.SOFT_INK
            if far:
                self._draw_far(painter, spans, ink, y, over)
                continue
            painter.setPen(QPen(ink, 1.5))
            painter.drawLines([QLineF(left, y, right, y) for left, right in spans])
            stamp = self._stamps.of(self.workspace.pass_, ink, over and not left_alone, ratio)
            last_x = -math.inf
            for left, right in spans:
                x = (left + right) / 2
                if x - last_x >= _STAMP:
                    painter.drawPixmap(QPointF(x - 8, y - 3), stamp)
                    last_x = x
        if not far:
            self._draw_letters(painter, x0, scale, spectrum.top())
        self._draw_outlined(painter, wave, spectrum)
        painter.restore()

    @staticmethod
    def _draw_far(painter: QPainter, spans: list[tuple[float, float]], ink: QColor, y: float, over: bool) -> None:
        """Where marks are too many for their shapes: lines, those over the ceiling high."""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ink)
        high = 9.0 if over else 3.0
        painter.drawRects([QRectF(left, y, max(1.5, right - left), high) for left, right in spans])

    def draw_in_hand(self, painter: QPainter, wave: QRectF, spectrum: QRectF, ratio: float) -> None:
        """The selected marks over all else."""
        which, part, (start, end) = self.workspace.pass_, self.workspace.part, self.workspace.viewport.span
        whole_s = _WHOLE * self.workspace.take.source.duration if which.skyline.over_frequency else math.inf
        painter.save()
        painter.setClipRect(QRectF(wave.left(), 0, wave.width(), spectrum.bottom() + 8))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        tint, y = theme.SELECTED.toRgb(), wave.bottom() + 4
        tint.setAlpha(38)
        for mark in self.workspace.marks_selected():
            first, last = mark.span
            if last < start or first > end or last - first >= whole_s:
                continue
            left, right = self._x_of(first), max(self._x_of(last), self._x_of(first) + 1)
            box = QRectF(left - 2, wave.top(), right - left + 4, spectrum.bottom() - wave.top())
            painter.fillRect(box, tint)
            painter.setPen(QPen(theme.SELECTED, 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box)
            painter.drawLine(QPointF(left, y), QPointF(right, y))
            over = which.skyline.height(mark) > self.workspace.ceiling or part.acts(mark)
            stamp = self._stamps.of(which, theme.SELECTED, over and not mark.hand.leave, ratio)
            painter.drawPixmap(QPointF((left + right) / 2 - 8, y - 3), stamp)
        painter.setPen(QPen(theme.SELECTED, 1.5, Qt.PenStyle.DotLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for first, last in (mark.span for mark in self.workspace.outlined_here()):
            if last >= start and first <= end and last - first < whole_s:
                left, right = self._x_of(first), max(self._x_of(last), self._x_of(first) + 1)
                painter.drawRect(QRectF(left - 2, wave.top(), right - left + 4, spectrum.bottom() - wave.top()))
        painter.restore()

    def _draw_letters(self, painter: QPainter, x0: float, scale: float, y: float) -> None:
        """What each mark is, at its place, where there is room."""
        (start, end), letter_of, room = self.workspace.viewport.span, self.workspace.pass_.words.letter, LabelRoom()
        painter.setFont(theme.sans(theme.SMALL))
        for mark in self.workspace.marks_seen(int(self.workspace.viewport.span[1] - start) + 1_000):
            first, until = mark.span
            x = x0 + ((first + until) / 2 - start) * scale
            if start <= until and first <= end and (letter := letter_of(mark)):
                wide = width_of(painter, letter)
                box = QRectF(x - wide / 2, y + 1, wide, painter.fontMetrics().height())
                if room.take(box):
                    draw_label(painter, box, letter, theme.INK)

    def _draw_outlined(self, painter: QPainter, wave: QRectF, box: QRectF) -> None:
        """What is seen in every pass: boxes drawn by hand, and words that change."""
        part, axis, room = self.workspace.part, self.workspace.pass_.trace.axis, LabelRoom()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.HAND_FLAG, 1.4))
        for kind in (kind for kind in KINDS if kind.reporter.outlined):
            for mark, change in part.changed(kind.name):
                if mark.hand.outline:
                    corners = [QPointF(self._x_of(t), box.top() + min(1.0, max(0.0, axis.place(hz))) * box.height())
                               for t, hz in mark.hand.outline]  # fmt: skip
                    painter.drawPolygon(QPolygonF(corners))
                    continue
                left, right = (self._x_of(t) for t in mark.span)
                copied_s = kind.reporter.copied_from(mark)
                if copied_s is not None:  # a passage that was carried there
                    frame = QRectF(left, wave.top(), right - left, box.bottom() - wave.top())
                    painter.drawRect(frame)
                    painter.setFont(theme.sans(theme.SMALL))
                    words = f"from {theme.clock(copied_s + part.offset_s)}"
                    wide, high = width_of(painter, words), painter.fontMetrics().height()
                    label = QRectF(left + 3, box.bottom() - high - 3, wide, high)
                    if frame.contains(label) and room.take(label):
                        draw_label(painter, label, words, theme.HAND_FLAG)
                    painter.setPen(QPen(theme.HAND_FLAG, 1.4))
                    continue
                low_hz, high_hz = band_of(mark)
                full_band = high_hz <= 2
                if full_band:  # a ride: the line of the gain over the wave, its middle being no change
                    y = wave.center().y() - min(1.0, max(-1.0, change / _RIDE_DB)) * wave.height() / 2
                    painter.drawPolyline([QPointF(left, wave.center().y()), QPointF(left, y), QPointF(right, y),
                                          QPointF(right, wave.center().y())])  # fmt: skip
                top, bottom = (0.0, 1.0) if full_band else (axis.place(high_hz), axis.place(low_hz))
                top, bottom = min(max(top, 0.0), 1.0), min(max(bottom, 0.0), 1.0)
                if bottom > top:
                    y, height = box.top() + top * box.height(), (bottom - top) * box.height()
                    painter.drawRect(QRectF(left, y, max(2.0, right - left), height))
