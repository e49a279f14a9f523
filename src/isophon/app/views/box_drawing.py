"""A box, or a free outline, while it is drawn over the spectrogram."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.core.takes.pictures import Axis

_SMALLEST = 4
_FEWEST_CORNERS, _MOST_CORNERS = 5, 90


def draws(event: QMouseEvent, workspace: Workspace) -> bool:
    """Whether a press begins a box: Ctrl is held, which no window manager takes, or drawing is switched on."""
    return workspace.drawing or bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)


class BoxDrawing:
    """What is being drawn, if anything; ``time_at(x)``: the time at a place; ``axis()``: the frequencies over it."""

    def __init__(self, workspace: Workspace, time_at: Callable[[float], float], axis: Callable[[], Axis]) -> None:
        self.workspace, self._time_at, self._axis = workspace, time_at, axis
        self._box: tuple[QPointF, QPointF] | None = None
        self._outline: list[QPointF] = []  # the same, drawn freely

    def begin(self, pos: QPointF, spectrum: QRectF, free: bool) -> None:
        """Begin at a place; ``free``: an outline instead of a box."""
        at = _within(pos, spectrum)
        self._box, self._outline = (at, at), [at] if free else []

    def go_on(self, pos: QPointF, spectrum: QRectF) -> None:
        """Draw on to a place."""
        if self._box:
            at = _within(pos, spectrum)
            self._box = (self._box[0], at)
            if self._outline:
                self._outline.append(at)

    def give_up(self) -> bool:
        """Draw nothing after all; whether something was being drawn."""
        drawing, self._box, self._outline = self._box is not None, None, []
        return drawing

    def keep(self, spectrum: QRectF) -> None:
        """Hand over what was drawn: the whole band where a box touches both edges of all that there is."""
        if self._box is None:
            return
        axis = self._axis()
        box, self._box = QRectF(*self._box).normalized(), None
        drawn, self._outline = self._outline, []
        if len(drawn) > _FEWEST_CORNERS:
            every = max(1, len(drawn) // _MOST_CORNERS)
            corners = [
                (self._time_at(p.x()), axis.hz((p.y() - spectrum.top()) / spectrum.height())) for p in drawn[::every]
            ]
            self.workspace.commands.draw_outline(corners)
        elif box.width() >= _SMALLEST and box.height() >= _SMALLEST:
            touching = box.top() <= spectrum.top() + 3 and box.bottom() >= spectrum.bottom() - 3
            full_band = touching and self.workspace.pass_.hand.boxes  # other passes show a part of the band only
            low, high = (axis.hz((y - spectrum.top()) / spectrum.height()) for y in (box.bottom(), box.top()))
            times = self._time_at(box.left()), self._time_at(box.right())
            self.workspace.commands.draw_box(*times, *((0.0, 0.0) if full_band else (low, high)))

    def draw(self, painter: QPainter) -> None:
        """What was drawn so far."""
        if self._box is None:
            return
        painter.setPen(QPen(theme.SELECTED, 1.5, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self._outline:
            painter.drawPolyline(QPolygonF(self._outline))
        else:
            painter.drawRect(QRectF(*self._box).normalized())


def _within(pos: QPointF, spectrum: QRectF) -> QPointF:
    return QPointF(pos.x(), min(max(pos.y(), spectrum.top()), spectrum.bottom()))
