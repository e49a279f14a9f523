"""The edges of the band that a pass listens to, over map or lens: two lines that a hand drags, one alone or both."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.views.label_room import draw_label, width_of
from isophon.core.takes.pictures import Axis

_GRAB = 5.0
_LEAST_RATIO = 1.1  # of both edges


class BandLimits:
    """``axis()``: the frequencies of the picture. ``edge``: the one that is dragged, '' for none."""

    def __init__(self, workspace: Workspace, axis: Callable[[], Axis]) -> None:
        self.workspace, self._axis = workspace, axis
        self.edge, self._gesture = "", 0
        self._from = (0.0, 0.0, 0.0)  # Hz where it was taken, and both edges then

    @property
    def shown(self) -> tuple[float, float] | None:
        """Both edges in Hz; None where the pass listens to no band."""
        tools = self.workspace.pass_.trace.limits
        return None if tools is None else tools.of(self.workspace.part)

    def near(self, pos: QPointF, spectrum: QRectF) -> str:
        """Which edge lies at a place: ``low`` or ``high``; '' for none."""
        limits = self.shown
        if limits is None or not spectrum.adjusted(0, -_GRAB, 0, _GRAB).contains(pos):
            return ""
        off = {name: abs(self._y_of(hz, spectrum) - pos.y()) for name, hz in zip(("low", "high"), limits, strict=True)}
        name = min(off, key=off.__getitem__)
        return name if off[name] <= _GRAB else ""

    def press(self, pos: QPointF, spectrum: QRectF) -> bool:
        """Take the edge at a place; whether there is one."""
        self.edge, limits = self.near(pos, spectrum), self.shown
        if self.edge and limits is not None:
            self._gesture += 1
            self._from = (self._hz_at(pos, spectrum), *limits)
        return bool(self.edge)

    def drag(self, pos: QPointF, spectrum: QRectF, both: bool) -> None:
        """Move the edge that was taken, or ``both``, as far as the pointer has moved."""
        tools = self.workspace.pass_.trace.limits
        if not self.edge or tools is None:
            return
        hz, low, high = self._from
        ratio = self._hz_at(pos, spectrum) / hz
        low, high = (low * ratio if both or self.edge == "low" else low,
                     high * ratio if both or self.edge == "high" else high)  # fmt: skip
        if high < _LEAST_RATIO * low:
            low, high = (high / _LEAST_RATIO, high) if self.edge == "low" else (low, low * _LEAST_RATIO)
        tools.move(self.workspace, low, high, ("limits", self._gesture))

    def draw(self, painter: QPainter, spectrum: QRectF, whose: str = "") -> None:
        """Both edges with their frequencies, ``whose`` they are, and what lies between them marked at the side."""
        limits = self.shown
        if limits is None:
            return
        painter.save()
        painter.setClipRect(spectrum)
        painter.setFont(theme.sans(theme.SMALL))
        low, high = (self._y_of(hz, spectrum) for hz in limits)
        painter.setPen(QPen(theme.SELECTED, 3))
        painter.drawLine(QPointF(spectrum.left() + 2, high), QPointF(spectrum.left() + 2, low))
        for hz, y, above in ((limits[0], low, False), (limits[1], high, True)):
            painter.setPen(QPen(theme.SELECTED, 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(spectrum.left(), y), QPointF(spectrum.right(), y))
            words = f"{whose}{'to' if above else 'from'} {hz / 1000:.1f} kHz"
            height = painter.fontMetrics().height()
            top = y + 2 if above else y - height - 2
            box = QRectF(spectrum.left() + 8, top, width_of(painter, words), height)
            draw_label(painter, box, words, theme.SELECTED)
        painter.restore()

    def _y_of(self, hz: float, spectrum: QRectF) -> float:
        share = self._axis().place(hz)
        return spectrum.top() + min(1.0, max(0.0, share)) * spectrum.height()

    def _hz_at(self, pos: QPointF, spectrum: QRectF) -> float:
        share = min(1.0, max(0.0, (pos.y() - spectrum.top()) / spectrum.height()))
        return self._axis().hz(share)
