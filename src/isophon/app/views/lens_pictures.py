"""The pictures of the lens: the selected mark close up, as sung beside cleaned, with its box to drag."""

from __future__ import annotations

import msgspec
import numpy as np
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.keys import key_tip
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.band_limits import BandLimits
from isophon.app.views.box_drawing import BoxDrawing, draws
from isophon.app.views.close_up import CloseUp, Wanted
from isophon.app.views.fade_handles import FadeHandles
from isophon.app.views.shape_line import LINES, ShapeLine
from isophon.app.views.soon import Soon
from isophon.core.marks import Mark
from isophon.core.session import edits
from isophon.core.takes.pictures import Axis

_GRAB, _CAPTION = 7, 18
_SOON_MS = 15
_LONG_S = 1.0
_OVER_MARK_DB, _LOUDER_DB, _SOFTER_DB = 5.0, 8.0, 26.0  # how far the level that is drawn dark may lie from the voice


class LensPictures(QWidget):
    """As sung beside cleaned, at the same scale. The box's edges drag in time and frequency."""

    menu_asked = Signal(QPoint, object, object)

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self._drag: str | None = None
        self._box, self._drawn_in = BoxDrawing(workspace, self._time_at, lambda: self.axis), QRectF()
        self.limits = BandLimits(workspace, lambda: self.axis)  # over the cleaned picture, where no handles are
        self._lines = {along: line(workspace) for along, line in LINES.items()}
        self.fades = FadeHandles(workspace)
        self._gesture = 0
        self._window: tuple[float, float] | None = None
        self.setMinimumHeight(theme.u(86))
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Lens"))
        key_tip(
            self,
            "Drag the edges of the box: its time and its band, by hand. "
            "Where a line crosses the cleaned one, double-click makes a point of it or takes one away; "
            "drag the points. The handles at its top are how long the change takes to come and to go. "
            "Ctrl and drag, or draw ({draw_box}): a box over anything, with Shift a free outline.",
        )
        self.close_up = CloseUp(self)
        self.close_up.ready.connect(self.update)
        self._soon = Soon(self, _SOON_MS)
        workspace.part_changed.connect(self._soon.ask)
        workspace.selection_changed.connect(self._taken)
        workspace.take_changed.connect(self._soon.ask)

    @property
    def axis(self) -> Axis:
        """The frequencies shown."""
        return self.workspace.pass_.lens_axis

    @property
    def _line(self) -> ShapeLine | None:
        """The line that marks of this pass have, along their time or over frequency."""
        return self._lines.get(self.workspace.pass_.hand.shaped)

    def _taken(self) -> None:
        self._window = None
        self._soon.ask()

    def window_s(self, mark: Mark) -> tuple[float, float]:
        """The seconds shown: the mark and what is around it; kept while the mark stays selected."""
        if self._window is None:
            start, end = self._seen(mark)
            around = self.workspace.pass_.lens.around_s
            self._window = (max(0.0, start - around), end + around)
        return self._window

    def _seen(self, mark: Mark) -> tuple[float, float]:
        """The mark's time; of a band that is always there, the selected time or the longest word."""
        if not self.workspace.over_frequency:
            return mark.span
        words = self.workspace.take.words or ((0.0, 1.0),)
        return self.workspace.selected_time or max(words, key=lambda w: min(w[1] - w[0], _LONG_S))

    def boxes(self) -> tuple[QRectF, QRectF]:
        """Where as sung and cleaned are drawn."""
        left, gap = 36, 8
        width, height = (self.width() - left - gap) / 2, self.height() - _CAPTION
        return QRectF(left, _CAPTION, width, height), QRectF(left + width + gap, _CAPTION, width, height)

    def mark_box(self, mark: Mark, picture: QRectF) -> QRectF:
        """The mark's time and band within a picture."""
        first, last = self.window_s(mark)
        start, end = (first, last) if self.workspace.over_frequency else mark.span
        low, high = self.workspace.pass_.lens.box(mark, self.axis)
        x = [picture.left() + (t - first) / (last - first) * picture.width() for t in (start, end)]
        top = picture.top() + (0.0 if high is None else max(0.0, self.axis.place(high))) * picture.height()
        bottom = picture.top() + min(1.0, self.axis.place(low)) * picture.height()
        return QRectF(x[0], top + 1, x[1] - x[0], bottom - top - 1)

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.PAPER)
        mark = self.workspace.mark
        if mark is None:
            painter.setPen(theme.SOFT_INK)
            painter.setFont(theme.sans(theme.TEXT))
            painter.drawText(
                self.rect(),
                Qt.AlignmentFlag.AlignCenter,
                tr("Select a mark: click a bar, or press →" if self.workspace.marks else ""),
            )
            return
        sung, cleaned = self.boxes()
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        wanted = self._wanted(mark)
        self.close_up.ask(*wanted)
        made = [self.close_up.kept(after, one) for after, one in zip((False, True), wanted, strict=True)]
        if self.workspace.pass_.lens.waves:
            self._draw_waves(painter, (sung, cleaned), made, mark)
        else:
            for box, picture in zip((sung, cleaned), made, strict=True):
                if picture is not None:
                    painter.drawImage(box, picture)
            self._draw_axis(painter, sung)
        for box, text in ((sung, "as sung"), (cleaned, "cleaned")):
            painter.setPen(theme.INK)
            painter.setFont(theme.sans(theme.SMALL, theme.QFont.Weight.DemiBold))
            label = QRectF(box.left(), 0, box.width(), _CAPTION - 2)
            painter.drawText(label, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, tr(text))
        self._draw_box(painter, self.mark_box(mark, sung), mark)
        painter.setPen(QPen(theme.SELECTED, 1, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(self.mark_box(mark, cleaned))
        if line := self._line:
            line.draw(painter, self.mark_box(mark, cleaned), mark)
        self.fades.draw(painter, self.mark_box(mark, cleaned), mark)
        self.limits.draw(painter, cleaned)
        self._box.draw(painter)

    def _time_at(self, x: float) -> float:
        """The time at a place of the picture that is drawn in."""
        assert self.workspace.mark is not None, "there is a picture to draw in"
        first, last = self.window_s(self.workspace.mark)
        return first + (x - self._drawn_in.left()) / self._drawn_in.width() * (last - first)

    def _begin_box(self, event: QMouseEvent) -> bool:
        """Begin to draw where that is wanted; whether it is."""
        if not draws(event, self.workspace) or self.workspace.pass_.lens.waves:
            return False
        inside = [box for box in self.boxes() if box.contains(event.position())]
        if inside:
            self._drag, self._drawn_in = "box", inside[0]
            free = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._box.begin(event.position(), self._drawn_in, free)
        return bool(inside)

    def give_up_box(self) -> bool:
        """Draw no box after all; whether one was being drawn."""
        drawing = self._box.give_up()
        self.update()
        return drawing

    def _draw_waves(self, painter: QPainter, boxes: tuple[QRectF, QRectF], waves: list, mark: Mark) -> None:
        """The samples around a tick, as sung and cleaned, on one scale."""
        sung, (start, end) = boxes[0], self.window_s(mark)
        full = max(1e-6, float(np.abs(waves[0]).max())) if waves[0] is not None else 1.0
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for box, wave in zip(boxes, waves, strict=True):
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
            if wave is None:
                continue
            x = box.left() + np.arange(len(wave)) / (len(wave) - 1) * box.width()
            y = box.center().y() - wave / full * (box.height() / 2 - 12)
            painter.setPen(QPen(theme.INK, 1.4))
            painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
        painter.setFont(theme.mono(theme.SMALL))
        painter.setPen(theme.SOFT_INK)
        words = f"{1000 * (end - start):.0f} ms"
        painter.drawText(QRectF(0, sung.bottom() - 20, 40, 16), Qt.AlignmentFlag.AlignRight, tr(words))

    def _draw_axis(self, painter: QPainter, box: QRectF) -> None:
        painter.setFont(theme.mono(theme.SMALL))
        painter.setPen(theme.SOFT_INK)
        for hz in self.axis.ticks:
            y = min(max(8.0, box.top() + self.axis.place(hz) * box.height()), box.bottom() - 8)
            text = theme.hertz(hz)
            painter.drawText(
                QRectF(0, y - 8, 38, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, tr(text)
            )

    def _draw_box(self, painter: QPainter, box: QRectF, _mark: Mark) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.SELECTED, 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(box)
        painter.setBrush(theme.PAPER)
        for name, point in self._handles(box).items():
            if name in self.workspace.pass_.hand.handles:
                painter.drawEllipse(point, 4, 4)

    @staticmethod
    def _handles(box: QRectF) -> dict[str, QPointF]:
        return {
            "start": QPointF(box.left(), box.center().y()),
            "end": QPointF(box.right(), box.center().y()),
            "low": QPointF(box.center().x(), box.bottom()),
            "high": QPointF(box.center().x(), box.top() + 4),
        }

    def _wanted(self, mark: Mark) -> tuple[Wanted, Wanted]:
        """What is shown as sung and cleaned."""
        axis = None if self.workspace.pass_.lens.waves else self.axis
        sung = Wanted(self.workspace.take, self.window_s(mark), axis, self._reference_lufs(mark))
        first, count = sung.frames
        near = tuple(t for t in self.workspace.part.plan if t.last > first and t.first < first + count)
        return sung, msgspec.structs.replace(sung, plan=near)

    def _reference_lufs(self, mark: Mark) -> float | None:
        """The level that is drawn dark: the mark's own, so that a quiet one is seen as well as a loud one."""
        voice = self.workspace.part.voice_lufs
        if voice is None or self.workspace.over_frequency:
            return voice
        return round(min(voice + _LOUDER_DB, max(voice - _SOFTER_DB, mark.level_db + _OVER_MARK_DB)))

    def _under(self, at: QPointF) -> str | None:
        mark = self.workspace.mark
        if mark is None:
            return None
        box = self.mark_box(mark, self.boxes()[0])
        if box.top() - _GRAB <= at.y() <= box.bottom() + _GRAB and box.left() - _GRAB <= at.x() <= box.right() + _GRAB:
            every = {"start": abs(at.x() - box.left()), "end": abs(at.x() - box.right()),
                     "low": abs(at.y() - box.bottom()), "high": abs(at.y() - box.top())}  # fmt: skip
            distance = {name: every[name] for name in self.workspace.pass_.hand.handles}
            name = min(distance, key=distance.__getitem__)
            return name if distance[name] <= _GRAB else None
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        mark = self.workspace.mark
        if mark is not None and self._begin_box(event):
            return
        if mark and self.fades.press(self.mark_box(mark, self.boxes()[1]), mark, event.position()):
            self._drag = "fade"
            return
        line = self._line
        if mark and line and line.press(self.mark_box(mark, self.boxes()[1]), mark, event.position()):
            self._drag = "line"
            return
        if mark and self.limits.press(event.position(), self.boxes()[1]):
            self._drag = "limits"
            return
        self._drag = self._under(event.position())
        self._gesture += 1

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        mark = self.workspace.mark
        if mark is not None and (line := self._line):
            line.double_click(self.mark_box(mark, self.boxes()[1]), mark, event.position())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        mark, at = self.workspace.mark, event.position()
        if self._drag is None and self.workspace.drawing:
            return
        if self._drag is None or mark is None:
            cleaned = self.boxes()[1]
            fade = mark and self.fades.near(self.mark_box(mark, cleaned), mark, at)
            edge = fade or self._under(at) or (mark and self.limits.near(at, cleaned)) or None
            shape = dict.fromkeys(("start", "end", "comes", "goes"), Qt.CursorShape.SizeHorCursor)
            self.setCursor(
                Qt.CursorShape.ArrowCursor if edge is None else shape.get(edge, Qt.CursorShape.SizeVerCursor)
            )
            return
        if self._drag == "box":
            x = min(max(at.x(), self._drawn_in.left()), self._drawn_in.right())
            self._box.go_on(QPointF(x, at.y()), self._drawn_in)
            self.update()
            return
        if self._drag == "fade":
            self.fades.drag(self.mark_box(mark, self.boxes()[1]), mark, at)
            return
        if self._drag == "line" and (line := self._line):
            line.move(self.mark_box(mark, self.boxes()[1]), mark, at)
            return
        if self._drag == "limits":
            self.limits.drag(at, self.boxes()[1], bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
            return
        picture = self.boxes()[0]
        first, last = self.window_s(mark)
        time = first + (at.x() - picture.left()) / picture.width() * (last - first)
        hz = self.axis.hz(float(np.clip((at.y() - picture.top()) / picture.height(), 0, 1)))
        (start, end), (low, high) = mark.span, mark.band
        if self._drag in ("start", "end"):
            self.workspace.commands.set_edge(self._drag, time, ("lens", self._gesture))
            return
        if self._drag == "low":
            low = min(hz, 0.7 * (high or self.axis.high))
        else:
            high = None if hz >= 0.97 * self.axis.high else max(hz, low / 0.7)
        self.workspace.edit(
            f"box by hand · {self.workspace.part.name}",
            lambda s: edits.set_box(s, self.workspace.part.id, mark.id, start, end, low, high),
            ("lens", self._gesture),
        )

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.menu_asked.emit(event.globalPos(), self.workspace.mark, None)

    def mouseReleaseEvent(self, _event: QMouseEvent) -> None:
        drawn, self._drag = self._drag == "box", None
        if drawn:
            self._box.keep(self._drawn_in)
            self.update()
