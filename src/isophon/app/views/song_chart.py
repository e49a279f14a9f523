"""The song as it was laid out: a row a recording with its wave, on one ruler; leads on top, references below."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.map_signs import draw_ruler
from isophon.app.views.wave import draw_wave
from isophon.core.session.items import Guide
from isophon.core.session.model import Part

_ROW, _RULER, _NAMES, _RIGHT = 34, 22, 132, 12
_GRAB = 4  # pixels a press may move before it is a drag
_NUDGE_S, _FINE_S = 0.01, 0.001


class SongChart(QWidget):
    """``play_asked(item, song_s)``: a click on a row; ``moved(item, start_s, gesture)``: a wave that is dragged."""

    play_asked = Signal(str, float)
    moved = Signal(str, float, object)

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self._waves: dict[object, QPixmap] = {}
        self._drag: tuple[str, float, float] | None = None  # the row, where it was pressed, and its start then
        self._gesture, self._dragged = 0, False
        self.playhead_s: float | None = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("The song: a row a recording"))
        self.setToolTip("Click a row: play it from there. Drag its wave: its start; with Shift finely. Alt+← and →: "
                        "the start of the selected part by 10 ms, with Shift by 1 ms")  # fmt: skip

    @property
    def rows(self) -> list[Part | Guide]:
        """Leads, the other parts, references."""
        session = self.workspace.session
        others = (part for part in session.parts if part.role != "lead")
        return [*session.leads, *others, *session.guides]

    def sizeHint(self) -> QSize:
        return QSize(400, theme.u(_RULER) + theme.u(_ROW) * len(self.rows) + 2)

    def refresh(self) -> None:
        """Show what the session says now."""
        self.setMinimumHeight(self.sizeHint().height())
        self.updateGeometry()
        self.update()

    def show_playhead(self, song_s: float | None) -> None:
        """Show where it plays, None: nowhere."""
        if song_s != self.playhead_s:
            self.playhead_s = song_s
            self.update()

    def row_box(self, index: int) -> QRectF:
        """The row of a recording."""
        top = theme.u(_RULER) + index * theme.u(_ROW)
        return QRectF(theme.u(_NAMES), top, max(40, self.width() - theme.u(_NAMES + _RIGHT)), theme.u(_ROW))

    def x_of(self, song_s: float) -> float:
        """Where a second of the song lies."""
        start, end = self._span()
        box = self.row_box(0)
        return box.left() + (song_s - start) / (end - start) * box.width()

    def _second_at(self, x: float) -> float:
        start, end = self._span()
        box = self.row_box(0)
        return start + (x - box.left()) / box.width() * (end - start)

    def _span(self) -> tuple[float, float]:
        start, end = self.workspace.session.span
        return start, max(end, start + 1.0)

    def _row_at(self, y: float) -> Part | Guide | None:
        index = int((y - theme.u(_RULER)) // theme.u(_ROW))
        return self.rows[index] if 0 <= index < len(self.rows) else None

    # drawing

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if not self.rows:
            return
        box = self.row_box(0)
        ruler = QRectF(box.left(), 0, box.width(), theme.u(_RULER))
        draw_ruler(painter, ruler, *self._span(), self.workspace.counted_bars)
        for index, item in enumerate(self.rows):
            self._draw_row(painter, self.row_box(index), item)
        if self.playhead_s is not None:
            x = self.x_of(self.playhead_s)
            painter.setPen(QPen(theme.SELECTED, 1.5))
            painter.drawLine(QLineF(x, theme.u(_RULER) - 4, x, self.height()))

    def _draw_row(self, painter: QPainter, box: QRectF, item: Part | Guide) -> None:
        selected = item.id in self.workspace.selected_parts
        if selected:
            painter.fillRect(QRectF(0, box.top(), self.width(), box.height()), theme.PANEL)
        painter.setFont(theme.sans(theme.TEXT))
        painter.setPen(theme.INK)
        name = painter.fontMetrics().elidedText(item.name, Qt.TextElideMode.ElideRight, theme.u(_NAMES - 12))
        left = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(4, box.top(), theme.u(_NAMES - 12), box.height()), left, name)
        first, last = self.x_of(item.offset_s), self.x_of(item.offset_s + item.source.duration)
        painter.setPen(QPen(theme.RULE, 1))
        painter.drawLine(QLineF(0, box.bottom(), self.width(), box.bottom()))
        painter.setPen(QPen(theme.CONTOUR, 1, Qt.PenStyle.DotLine))
        painter.drawLine(QLineF(box.left(), box.center().y(), first, box.center().y()))
        painter.drawLine(QLineF(last, box.center().y(), box.right(), box.center().y()))
        place = QRectF(first, box.top() + 3, max(2.0, last - first), box.height() - 6)
        self._draw_silence(painter, place, item)
        wave = self._wave(item, place.size().toSize())
        if wave is not None:
            painter.drawPixmap(place.topLeft(), wave)
        painter.setPen(QPen(theme.SELECTED if selected else theme.CONTOUR, 1))
        painter.drawRect(place)

    def _draw_silence(self, painter: QPainter, place: QRectF, item: Part | Guide) -> None:
        """What of a recording is silent before its first and after its last sound."""
        figures = self.workspace.pool.take(item.source).figures
        if figures is None:
            return
        sounds = figures.sounds or (item.source.duration, item.source.duration)
        scale = place.width() / item.source.duration
        for start, end in ((0.0, sounds[0]), (sounds[1], item.source.duration)):
            painter.fillRect(QRectF(place.left() + start * scale, place.top(), (end - start) * scale, place.height()),
                             theme.RULE)  # fmt: skip

    def _wave(self, item: Part | Guide, size: QSize) -> QPixmap | None:
        """The wave of a recording, drawn once for a size."""
        take, ratio = self.workspace.pool.take(item.source), self.devicePixelRatioF()
        if take.wave is None or size.width() < 2:
            return None
        key = item.source, size.toTuple(), ratio, theme.in_force(), isinstance(item, Guide)
        if key not in self._waves:
            if len(self._waves) > 2 * len(self.rows) + 8:
                self._waves.clear()
            pixmap = QPixmap(size * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(Qt.GlobalColor.transparent)
            painter = QPainter(pixmap)
            ink = theme.CONTOUR if isinstance(item, Guide) else theme.INK
            draw_wave(painter, QRectF(0, 0, size.width(), size.height()), take, 0, item.source.frames, ink)
            painter.end()
            self._waves[key] = pixmap
        return self._waves[key]

    # by hand

    def mousePressEvent(self, event: QMouseEvent) -> None:
        item = self._row_at(event.position().y())
        if event.button() == Qt.MouseButton.LeftButton and item is not None:
            self._drag, self._dragged = (item.id, event.position().x(), item.offset_s), False
            self._gesture += 1

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            item = self._row_at(event.position().y())
            over = item is not None and item.offset_s <= self._second_at(event.position().x())
            self.setCursor(Qt.CursorShape.OpenHandCursor if over else Qt.CursorShape.ArrowCursor)
            return
        item_id, from_x, start = self._drag
        by = event.position().x() - from_x
        if not self._dragged and abs(by) < _GRAB:
            return
        self._dragged = True
        fine = 0.1 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        span = self._span()
        seconds = start + fine * by / self.row_box(0).width() * (span[1] - span[0])
        self.moved.emit(item_id, round(seconds, 3), ("start", self._gesture))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and not self._dragged:
            self.play_asked.emit(self._drag[0], float(np.clip(self._second_at(event.position().x()), *self._span())))
        self._drag = None

    def keyPressEvent(self, event: QKeyEvent) -> None:
        part = self.workspace.part
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right) and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            step = _FINE_S if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else _NUDGE_S
            by = step if event.key() == Qt.Key.Key_Right else -step
            self.moved.emit(part.id, round(part.offset_s + by, 3), ("start", part.id))
            return
        super().keyPressEvent(event)
