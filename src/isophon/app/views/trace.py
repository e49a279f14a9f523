"""The trace: the song's overview, a ruler, the wave and the spectrogram, with the marks drawn on them."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.anchor_handles import AnchorHandles
from isophon.app.views.band_limits import BandLimits
from isophon.app.views.box_drawing import BoxDrawing
from isophon.app.views.keyboard import draw_focus
from isophon.app.views.map_maker import process
from isophon.app.views.map_pictures import Layer, MapPictures
from isophon.app.views.map_signs import draw_ruler
from isophon.app.views.mark_layer import MarkLayer
from isophon.app.views.marker_lines import draw_markers
from isophon.app.views.soon import Soon
from isophon.app.views.stretched import Span, can_stand_in, draw_in_place, draw_span, draw_stretched, is_far
from isophon.app.views.trace_gestures import TraceGestures
from isophon.app.views.trace_places import TracePlaces, margin_left
from isophon.app.views.wave import draw_wave

_APART_HZ = 22  # pixels
_SHARP_AFTER_MS = 60
_OVERLAP = 2  # pixels
_SIDE = 0.2  # of the width: what is drawn at once where a picture ends
_SOON_MS = 4
_GESTURE_EVENTS = (QEvent.Type.NativeGesture, QEvent.Type.ShortcutOverride)
_RIGHT_MIDDLE = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class Trace(QWidget):
    """The ground, drawn once for a view, the marks over it, what is selected, and the playhead.

    ``gestures``: what the mouse and the keys do in it.
    """

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.places = TracePlaces(workspace, self)
        self.playhead = 0.0
        self._ground: tuple[tuple, QPixmap] | None = None
        self._marked: tuple[tuple, QPixmap] | None = None  # the ground with the marks: the playhead moves over it
        self._sides: dict[bool, tuple[QPixmap, Span, QPixmap]] = {}  # earlier and later than a picture
        self._song_kept: tuple[object, QPixmap] | None = None
        self.map = MapPictures(workspace)
        self.map.maker.ready.connect(self.update)
        workspace.pool.leak_learned.connect(self._forget)
        self._layer = MarkLayer(workspace, self.places.x_of)
        self._box = BoxDrawing(workspace, self.places.time_at, lambda: workspace.pass_.trace.axis)
        self.anchors = AnchorHandles(workspace, self.places.x_of)
        self.limits = BandLimits(workspace, lambda: workspace.pass_.trace.axis)
        self.gestures = TraceGestures(workspace, self, self.places, self._box, self.anchors, self.limits)
        self._settled = QTimer(self, singleShot=True, interval=_SHARP_AFTER_MS)
        self._soon = Soon(self, _SOON_MS, self._made_ground, lambda: self._picture(moving=False))
        self._settled.timeout.connect(self._soon.ask)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # the ground is paper, drawn here
        self.setMinimumHeight(theme.u(160))
        workspace.part_changed.connect(self._soon.ask)
        workspace.selection_changed.connect(self._soon.ask)
        workspace.outlined_changed.connect(self.update)
        workspace.viewport.changed.connect(self._view_changed)
        workspace.take_changed.connect(self._soon.ask)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(tr("Trace"))

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        if (drawn := self._standing_in()) is not None:
            self._draw_moved(painter, *drawn)
        else:
            painter.drawPixmap(0, 0, self._picture(self._settled.isActive()))
        self._layer.draw_in_hand(painter, *self.places.rows()[2:], self.devicePixelRatioF())
        self._draw_places(painter)
        self.anchors.draw(painter, self.places.rows()[2])
        self.limits.draw(painter, self.places.rows()[3], "the rule ")
        self._box.draw(painter)
        draw_focus(painter, self)

    def _standing_in(self) -> tuple[Span, QPixmap] | None:
        """While the view moves, or a change is due: the last picture, and the seconds that it shows."""
        if self._marked is None or not (self._settled.isActive() or self._soon.due):
            return None
        (_, ((of, *how), *_), *_), picture = self._marked
        (view, *now) = self._place()
        if how != now or not can_stand_in(of, view):
            return None
        if is_far(of, view):
            self._soon.ask()
        return of, picture

    def _draw_moved(self, painter: QPainter, of: Span, picture: QPixmap) -> None:
        """The picture of other seconds where it belongs, and roughly what it does not show."""
        _, ruler, wave, _ = self.places.rows()
        view = self.workspace.viewport.span
        if of == view:
            painter.drawPixmap(0, 0, picture)
            return
        rest = self.height() - wave.top()
        draw_in_place(painter, picture, QRectF(0, 0, self.width(), ruler.top()))
        draw_in_place(painter, picture, QRectF(0, wave.top(), ruler.left(), rest))
        painter.fillRect(QRectF(0, ruler.top(), self.width(), wave.top() - ruler.top()), theme.PAPER)
        painter.fillRect(QRectF(ruler.right(), wave.top(), self.width(), rest), theme.PAPER)
        start, end = (t + self.workspace.offset for t in view)
        draw_ruler(painter, ruler, start, end, self.workspace.counted_bars)
        box = QRectF(ruler.left(), wave.top(), ruler.width(), rest)
        for side in draw_stretched(painter, picture, box, of, view):
            self._draw_side(painter, picture, side)

    def _draw_side(self, painter: QPainter, picture: QPixmap, side: QRectF) -> None:
        """Roughly what a picture does not show; more than is asked for is drawn, and kept for the frames to come."""
        span, earlier = self._span_of(side), side.left() <= margin_left()
        drawn = self._sides.get(earlier)
        if drawn is None or drawn[0] is not picture or not drawn[1][0] <= span[0] <= span[1] <= drawn[1][1]:
            more = _SIDE * self.places.plot_width()
            wider = side.adjusted(-more if earlier else -_OVERLAP, 0, _OVERLAP if earlier else more, 0)
            drawn = picture, self._span_of(wider), self._made_side(wider)
            self._sides[earlier] = drawn
        draw_span(painter, drawn[2], QRectF(drawn[2].rect()), drawn[1], side, span)

    def _span_of(self, box: QRectF) -> Span:
        """The seconds that a box shows."""
        return self.places.time_at(box.left()), self.places.time_at(box.right())

    def _made_side(self, side: QRectF) -> QPixmap:
        _, _, wave, spectrum = self.places.rows()
        ratio, span = self.devicePixelRatioF(), self._span_of(side)
        pixmap = QPixmap((side.size() * ratio).toSize().expandedTo(QSize(1, 1)))
        pixmap.setDevicePixelRatio(ratio)
        pixmap.fill(theme.PAPER)
        painter = QPainter(pixmap)
        painter.translate(-side.topLeft())
        self._draw_wave(painter, QRectF(side.left(), wave.top(), side.width(), wave.height()), span)
        place = QRectF(side.left(), spectrum.top(), side.width(), spectrum.height())
        self._draw_map(painter, self.map.roughly(span, place))
        painter.end()
        return pixmap

    def _place(self) -> tuple:
        """What is in view, and how: where that changes, it is drawn at once."""
        workspace = self.workspace
        seen = workspace.viewport.span, workspace.take, workspace.offset, workspace.counted_bars, workspace.pass_
        return *seen, self.size(), self.places.rows()[2].top(), self.devicePixelRatioF(), theme.in_force()

    def _made_ground(self) -> tuple[tuple, QPixmap]:
        """What lies under the marks, drawn if it is not yet, and what it is drawn of."""
        ratio, take = self.devicePixelRatioF(), self.workspace.take
        key = (self._place(), take.wave is not None, take.surveyed is not None)
        if self._ground is None or self._ground[0] != key:
            pixmap = QPixmap(self.size() * ratio)
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(theme.PAPER)
            painter = QPainter(pixmap)
            self._draw_ground(painter)
            painter.end()
            self._ground = key, pixmap
        return self._ground

    def _picture(self, moving: bool) -> QPixmap:
        """The ground with the map and the marks, kept as long as they are; sharp soon, but for a view that moves."""
        key, ground = self._made_ground()
        which = self.workspace.pass_
        in_hand = self.workspace.selected_marks if which.trace.draws_in_hand else ()
        relief = self._relief(moving)
        marked = (self.workspace.part.changes, key, in_hand, [layer.image.cacheKey() for layer in relief])
        drawn = self._marked
        if drawn is None or drawn[0][0] is not marked[0] or drawn[0][1:] != marked[1:]:
            pixmap = ground.copy()
            layer = QPainter(pixmap)
            self._draw_map(layer, relief)
            self._layer.draw(layer, *self.places.rows()[2:], self.devicePixelRatioF())
            layer.end()
            drawn = self._marked = marked, pixmap
        return drawn[1]

    @staticmethod
    def _draw_map(painter: QPainter, layers: list[Layer]) -> None:
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for layer in layers:
            painter.drawImage(layer.box, layer.image, layer.source)

    def _draw_ground(self, painter: QPainter) -> None:
        overview, ruler, wave, spectrum = self.places.rows()
        start, end = self.workspace.viewport.span
        painter.setFont(theme.sans(theme.SMALL))
        painter.setPen(theme.SOFT_INK)
        bars = self.workspace.counted_bars
        for row, name in ((overview, "song"), (ruler, "bar" if bars else ""), (wave, "wave")):
            painter.drawText(QRectF(0, row.top(), margin_left() - 8, row.height()), _RIGHT_MIDDLE, tr(name))
        painter.drawPixmap(overview.topLeft(), self._song(overview))
        draw_ruler(painter, ruler, start + self.workspace.offset, end + self.workspace.offset, bars)
        self._draw_wave(painter, wave, (start, end))
        self._draw_axis(painter, spectrum)

    def _draw_wave(self, painter: QPainter, box: QRectF, span: Span) -> None:
        """The wave of some seconds."""
        take, rate = self.workspace.take, self.workspace.take.recording.sample_rate
        if take.wave is not None and box.width() >= 1:
            threads = self.workspace.pass_.trace.anchors and self.workspace.part.role != "lead"
            below = box.adjusted(0, box.height() / 3, 0, 0) if threads else box  # the lead's wave stands above
            draw_wave(painter, below, take, span[0] * rate, span[1] * rate, theme.INK)

    def _song(self, box: QRectF) -> QPixmap:
        """The whole song's wave, drawn once for a size."""
        ratio = self.devicePixelRatioF()
        take, song = self.workspace.take, self.workspace.song
        key = (box.size().toTuple(), ratio, take, song, take.wave is None, take.surveyed is None, theme.in_force())
        if self._song_kept is None or self._song_kept[0] != key:
            pixmap = QPixmap((box.size() * ratio).toSize())
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(theme.PAPER)
            painter = QPainter(pixmap)
            rate = take.recording.sample_rate
            if take.wave is not None:
                overview = QRectF(0, 0, box.width(), box.height())
                draw_wave(painter, overview, take, song[0] * rate, song[1] * rate, theme.CONTOUR)
            scale = box.width() / (song[1] - song[0])
            for start, end in take.phrases:
                place = QRectF((start - song[0]) * scale, box.height() - 3, (end - start) * scale, 2)
                painter.fillRect(place, theme.SOFT_INK)
            painter.end()
            self._song_kept = (key, pixmap)
        return self._song_kept[1]

    # the map

    def show_as_sung(self, on: bool) -> None:
        """Show the part as sung, or what stays and what goes."""
        self.map.as_sung = on
        self.update()

    def _forget(self) -> None:
        """What was learned of a take is new: nothing that was rendered counts any more."""
        process().generation += 1
        self.update()

    def _relief(self, moving: bool) -> list[Layer]:
        return self.map.shown(
            self.workspace.viewport.span, self.places.rows()[3], self.devicePixelRatioF(), ask=not moving
        )

    def _draw_axis(self, painter: QPainter, box: QRectF) -> None:
        """The frequencies; where there is no map yet, why."""
        if self.workspace.take.surveyed is None:
            painter.setFont(theme.sans(theme.TEXT))
            painter.setPen(theme.SOFT_INK)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tr(self._waiting_text()))
        axis = self.workspace.pass_.trace.axis
        painter.setFont(theme.mono(theme.SMALL))
        painter.setPen(theme.SOFT_INK)
        for hz in axis.octaves(theme.u(_APART_HZ) / box.height()):
            y = min(max(box.top() + axis.place(hz) * box.height(), box.top() + 7), box.bottom() - 7)
            painter.drawText(QRectF(0, y - 9, margin_left() - 8, 18), _RIGHT_MIDDLE, theme.hertz(hz))

    def _waiting_text(self) -> str:
        if not self.workspace.session.parts:
            return "Nothing is laid out yet."
        return "" if self.workspace.take.trouble else "The spectrum appears here once this part has been analysed."

    def _draw_places(self, painter: QPainter) -> None:
        overview, ruler, _, spectrum = self.places.rows()
        start, end = self.workspace.viewport.span
        left, right = self.places.song_x(start), self.places.song_x(end)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.SELECTED, 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(QRectF(left, overview.top(), max(3, right - left), overview.height()), 2, 2)
        place = self.places.song_x(self.playhead)
        painter.drawLine(QPointF(place, overview.top()), QPointF(place, overview.bottom()))
        if self.workspace.selected_time:
            first, last = (self.places.x_of(t) for t in self.workspace.selected_time)
            tint = theme.SELECTED.toRgb()
            tint.setAlpha(50)
            painter.fillRect(QRectF(first, ruler.top(), last - first, spectrum.bottom() - ruler.top()), tint)
        draw_markers(self.places, painter)
        painter.setPen(QPen(theme.SELECTED, 1.5))
        x = self.places.x_of(self.playhead)
        if margin_left() <= x <= margin_left() + self.places.plot_width():
            painter.drawLine(QPointF(x, ruler.bottom()), QPointF(x, spectrum.bottom()))

    def set_playhead(self, seconds: float, follow: bool) -> None:
        """Move the line that shows what is heard."""
        if seconds == self.playhead:
            return
        self.playhead = seconds
        start, end = self.workspace.viewport.span
        if follow and not start <= seconds <= end:
            self.workspace.viewport.show(seconds, seconds + end - start)
        self.update()

    def _view_changed(self) -> None:
        self._settled.start()
        self.update()

    def resizeEvent(self, _event: QResizeEvent) -> None:
        self._settled.start()

    # what the mouse and the keys do

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.gestures.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.gestures.move(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.gestures.release(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.gestures.double_click(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.gestures.wheel(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.gestures.ask_for_menu(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.anchors.key(event.key(), event.modifiers(), self.playhead):
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        taken = event.type() in _GESTURE_EVENTS and self.gestures.takes(event)
        return taken or super().event(event)
