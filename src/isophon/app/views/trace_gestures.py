"""What the mouse does in the trace: zooming, moving along, selecting, dragging edges, boxes and anchors."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QObject, QPoint, QPointF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QCursor, QMouseEvent, QNativeGestureEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from isophon.app.model.keys import keyed
from isophon.app.model.workspace import Workspace
from isophon.app.views.anchor_handles import ANCHOR_KEYS, AnchorHandles
from isophon.app.views.band_limits import BandLimits
from isophon.app.views.box_drawing import BoxDrawing, draws
from isophon.app.views.keyboard import asks_first
from isophon.app.views.mark_words import mark_words
from isophon.app.views.trace_places import TracePlaces, margin_left
from isophon.core.marks import Mark

_ZOOM, _LEAST_PINCH = 1.25, 0.1
_GRAB, _MOST_NAMES = 5, 8
_EDGES = ("start", "end")
_TIP = ("Wheel or two fingers: zoom, sideways or with Shift move along. Drag: move along. Drag on the ruler: select. "
        "Drag an edge of the selected mark: its time. Double-click a mark: loop it. Ctrl and drag, or draw "
        "({draw_box}): a box over anything, with Shift a free outline.")  # fmt: skip
_ANCHORS_TIP = (" The selected word has handles: drag one, double-click beside them for one more, double-click one to "
                "let it stay.")  # fmt: skip
_LIMITS_TIP = (
    " Drag an edge of the band that the rule listens to, with Shift both; Shift and {band_held} held: hear it alone."
)


class TraceGestures(QObject):
    """Wheel zooms at the pointer, drag pans, drag on the ruler selects, double-click on a mark loops it."""

    loop_asked = Signal()
    seek_asked = Signal(float)
    scrubbed = Signal(object)
    menu_asked = Signal(QPoint, object, object)

    def __init__(
        self,
        workspace: Workspace,
        view: QWidget,
        places: TracePlaces,
        box: BoxDrawing,
        anchors: AnchorHandles,
        limits: BandLimits,
    ) -> None:
        super().__init__(view)
        self._workspace, self._view, self._places = workspace, view, places
        self._box, self._anchors, self._limits = box, anchors, limits
        self._drag: tuple[str, float, tuple[float, float]] | None = None
        self._moved, self._gesture = False, 0
        workspace.take_changed.connect(self._tell)
        self._tell()

    def _tell(self) -> None:
        more = _ANCHORS_TIP if self._workspace.pass_.trace.anchors else _LIMITS_TIP if self._limits.shown else ""
        self._view.setToolTip(keyed(_TIP + more))

    def _tell_at(self, x: float) -> None:
        """The tip: the names of markers there, which may not have had room, else the mark, else what can be done."""
        markers, at = self._workspace.markers_shown()
        names = [markers[i].name for i in np.flatnonzero(np.abs(self._places.x_of(at) - x) <= _GRAB)]
        mark = None if names else self.mark_at(x)
        words = "\n".join(names[:_MOST_NAMES]) or (mark_words(self._workspace, mark) if mark else "")
        if words:
            self._view.setToolTip(words)
        else:
            self._tell()

    def mark_at(self, x: float) -> Mark | None:
        """The mark drawn at a place."""
        time, slack = (
            self._places.time_at(x),
            4 / self._places.plot_width() * (self._workspace.viewport.span[1] - self._workspace.viewport.span[0]),
        )
        seen = self._workspace.marks_seen(int(self._places.plot_width()))
        near = [m for m in seen if m.span[0] - slack <= time <= m.span[1] + slack]
        return min(near, key=lambda m: abs(sum(m.span) / 2 - time), default=None)

    def _edge_at(self, x: float) -> str | None:
        """Which edge of the selected mark lies at a place."""
        mark = self._workspace.mark
        if mark is None:
            return None
        near = {name: abs(self._places.x_of(t) - x) for name, t in zip(_EDGES, mark.span, strict=True)}
        name = min(near, key=near.__getitem__)
        return name if near[name] <= _GRAB else None

    def press(self, event: QMouseEvent) -> None:
        """Take what is under the pointer."""
        if event.button() != Qt.MouseButton.LeftButton:
            return
        overview, ruler, *_ = self._places.rows()
        x, y = event.position().x(), event.position().y()
        wave, spectrum = self._places.rows()[2:]
        if draws(event, self._workspace) and y > ruler.bottom():
            self._drag = ("box", x, self._workspace.viewport.span)
            self._box.begin(event.position(), spectrum, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
            return
        if self._anchors.press(event.position(), wave):
            self._drag, self._moved = ("anchor", x, self._workspace.viewport.span), False
            return
        if self._limits.press(event.position(), spectrum):
            self._drag, self._moved = ("limit", x, self._workspace.viewport.span), False
            return
        if overview.bottom() <= y < ruler.bottom() and event.modifiers() & Qt.KeyboardModifier.AltModifier:
            self._drag, self._moved = ("scrub", x, self._workspace.viewport.span), True
            self.scrubbed.emit(self._places.time_at(x))
            return
        what = "overview" if y < overview.bottom() else "select" if y < ruler.bottom() else self._edge_at(x) or "pan"
        self._drag, self._moved = (what, x, self._workspace.viewport.span), False
        self._gesture += 1
        if what == "overview":
            self._show_around(x)

    def move(self, event: QMouseEvent) -> None:
        """Drag what was taken; else say what can be done here."""
        if not self._drag and self._workspace.drawing:
            return
        if self._drag:
            self._drag_to(event, *self._drag)
        else:
            self._hover(event.position())

    def _hover(self, at: QPointF) -> None:
        """Tell what is there, and by the cursor what a drag would do."""
        self._tell_at(at.x())
        below = at.y() > self._places.rows()[1].bottom()
        anchor = self._anchors.near(at, self._places.rows()[2]) is not None
        edge = anchor or (below and self._edge_at(at.x()))
        up = not anchor and self._limits.near(at, self._places.rows()[3])
        shape = Qt.CursorShape.SizeHorCursor if edge else Qt.CursorShape.ArrowCursor
        self._view.setCursor(Qt.CursorShape.SizeVerCursor if up else shape)

    def _drag_to(self, event: QMouseEvent, what: str, from_x: float, view: tuple[float, float]) -> None:
        x = event.position().x()
        if what == "scrub":
            self.scrubbed.emit(self._places.time_at(x))
            return
        if what == "box":
            self._box.go_on(event.position(), self._places.rows()[3])
            self._view.update()
            return
        if what == "limit":
            both = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._limits.drag(event.position(), self._places.rows()[3], both)
            return
        if abs(x - from_x) < 3 and not self._moved:
            return
        self._moved = True
        if what == "overview":
            self._show_around(x)
        elif what == "select":
            first, last = sorted((self._places.time_at(from_x), self._places.time_at(x)))
            start, end = self._workspace.song
            self._workspace.select_time((max(start, first), min(end, last)))
        elif what == "anchor":
            fine = 10 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
            self._anchors.drag((self._places.time_at(x) - self._places.time_at(from_x)) / fine)
        elif what in _EDGES:
            self._workspace.commands.set_edge(what, self._places.time_at(x), ("trace", self._gesture))
        else:
            shift = (from_x - x) / self._places.plot_width() * (view[1] - view[0])
            self._workspace.viewport.show(view[0] + shift, view[1] + shift)

    def give_up_box(self) -> bool:
        """Draw no box after all; whether one was being drawn."""
        drawing = self._box.give_up()
        self._view.update()
        return drawing

    def time_under_pointer(self) -> float:
        """The second of the selected part under the pointer; where that is not over the view, at its left edge."""
        x = self._view.mapFromGlobal(QCursor.pos()).x()
        return max(self._workspace.viewport.span[0], min(self._workspace.viewport.span[1], self._places.time_at(x)))

    def release(self, event: QMouseEvent) -> None:
        """Let go; where nothing was dragged: select the mark there, or play from there."""
        if self._drag and self._drag[0] == "scrub":
            self._drag = None
            self.scrubbed.emit(None)
            return
        if self._drag and self._drag[0] == "box":
            self._drag = None
            self._box.keep(self._places.rows()[3])
            self._view.update()
            return
        if self._drag and not self._moved and self._drag[0] not in ("overview", "anchor", "limit"):
            mark = self.mark_at(event.position().x()) if self._drag[0] == "pan" else None
            if mark:
                self._workspace.select_marks([mark.id], show=False)
            else:
                self._workspace.select_time(None)
                self.seek_asked.emit(self._places.time_at(event.position().x()))
        self._drag = None

    def takes(self, event: QEvent) -> bool:
        """Zoom where two fingers pinch; keep keys of a word's handles from being shortcuts. Whether it was either."""
        if isinstance(event, QNativeGestureEvent) and event.gestureType() == Qt.NativeGestureType.ZoomNativeGesture:
            start, end = self._workspace.viewport.span
            at, factor = self._places.time_at(event.position().x()), 1 / max(_LEAST_PINCH, 1 + event.value())
            self._workspace.viewport.show(at - (at - start) * factor, at + (end - at) * factor)
            return True
        if asks_first(event, ANCHOR_KEYS) and self._view.hasFocus() and self._anchors.anchors:
            event.accept()
            return True
        return False

    def double_click(self, event: QMouseEvent) -> None:
        """Loop the mark there; at the handles of a word: one more, or one fewer."""
        at = event.position()
        if self._anchors.double_click(at, self._places.rows()[2], self._places.time_at(at.x())):
            return
        mark = self.mark_at(event.position().x())
        if mark:
            self._workspace.select_marks([mark.id], show=False)
            self.loop_asked.emit()

    def ask_for_menu(self, event: QContextMenuEvent) -> None:
        """A menu for what is under the pointer."""
        below = event.pos().y() > self._places.rows()[1].bottom()
        mark = self.mark_at(event.pos().x()) if below else None
        self.menu_asked.emit(event.globalPos(), mark, self._places.time_at(event.pos().x()))

    def wheel(self, event: QWheelEvent) -> None:
        """Zoom at the pointer; with Shift, or sideways, move along."""
        steps = event.angleDelta().y() / 120
        sideways = event.angleDelta().x() / 120
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            steps, sideways = 0.0, steps + sideways
        start, end = self._workspace.viewport.target
        if abs(sideways) > abs(steps):  # two fingers hardly move along one way alone
            shift = -sideways * 0.1 * (end - start)
            self._go_to(event, start + shift, end + shift)
            return
        at = self._places.time_at(event.position().x())
        factor = _ZOOM**-steps
        self._go_to(event, at - (at - start) * factor, at + (end - at) * factor)

    def _go_to(self, event: QWheelEvent, start: float, end: float) -> None:
        """Glide by a wheel's notch; fingers on a touchpad move smoothly by themselves."""
        by_fingers = not event.pixelDelta().isNull()
        (self._workspace.viewport.show if by_fingers else self._workspace.viewport.glide_to)(start, end)

    def zoom(self, factor: float, around: float | None = None) -> None:
        """Show ``factor`` times as long a span, keeping a time where it is."""
        start, end = self._workspace.viewport.target
        centre = (start + end) / 2 if around is None else min(max(around, start), end)
        self._workspace.viewport.glide_to(centre - (centre - start) * factor, centre + (end - centre) * factor)

    def _show_around(self, x: float) -> None:
        first, last = self._workspace.song
        centre = first + (x - margin_left()) / self._places.plot_width() * (last - first)
        half = (self._workspace.viewport.span[1] - self._workspace.viewport.span[0]) / 2
        self._workspace.viewport.show(centre - half, centre + half)
