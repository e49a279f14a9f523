"""What the mouse does in the skyline: ceilings, tops of bars and bands are dragged, marks selected."""

from __future__ import annotations

import math

from PySide6.QtCore import QObject, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from isophon.app.model.workspace import IN_TIME, Workspace
from isophon.app.views import frequencies
from isophon.app.views.keyboard import same_held
from isophon.app.views.mark_words import mark_words
from isophon.app.views.skyline_places import SkylinePlaces
from isophon.core.session.settings import value_range

_GRAB = 6
_LEAST_OCTAVES = 0.02
_FINE = 0.1  # while Shift is held


class SkylineGestures(QObject):
    """Drag a ceiling; drag a bar's top (by hand); click: select; drag across: select several.

    Over frequency: drag a bar sideways too, wheel for its width, double-click to make one; press on the ground and
    move: you hear that band alone, with Shift all but it.
    """

    menu_asked = Signal(QPoint, object, object)

    def __init__(self, workspace: Workspace, view: QWidget, places: SkylinePlaces) -> None:
        super().__init__(view)
        self._workspace, self._view, self._places = workspace, view, places
        self.dragged = ""  # the setting of the ceiling that is dragged
        self._drag: tuple[str, str] | None = None
        self._band: tuple[QPointF, QPointF] | None = None
        self._held: tuple[float, float] = (0.0, 0.0)  # the pointer's last height, and the dB that it holds there
        self._before: dict[str, float] = {}  # the changes of the selected marks when a top was taken
        self._moved = False
        self._taken_hz: tuple[float, tuple[float, float]] = (0.0, (0.0, 0.0))
        self._gesture = 0

    @property
    def band(self) -> QRectF | None:
        """What is dragged across to select the bars in it."""
        return QRectF(*self._band).normalized() if self._band else None

    def _under(self, at: QPointF) -> tuple[str, str]:
        """What is under the pointer: a ceiling's tag, a bar's top, a bar, a ceiling's line, or nothing."""
        for setting, tag in self._places.tags().items():
            if tag.contains(at):
                return "ceiling", setting
        near = [(m, b) for m, b in self._places.bars() if b.left() - 3 <= at.x() <= b.right() + 3]
        for mark, _ in near:
            handle = self._places.y_of(self._places.stands_out(mark) + self._workspace.part.change(mark))
            if mark.id in self._workspace.selected_marks and abs(at.y() - handle) <= _GRAB:
                return "bar", mark.id
        lines = [(abs(at.y() - self._places.y_of(level)), not in_force, setting)
                 for setting, _, level, in_force in self._places.ceilings()]  # fmt: skip
        apart, _, setting = min(lines, default=(_GRAB, False, ""))
        if apart <= _GRAB - 1:
            return "ceiling", setting
        for mark, bar in near:
            handle = self._places.y_of(self._places.stands_out(mark) + self._workspace.part.change(mark))
            if abs(at.y() - handle) <= _GRAB:
                return "bar", mark.id
            if at.y() >= bar.top() - _GRAB:
                return "mark", mark.id
        return "nothing", ""

    def press(self, event: QMouseEvent) -> None:
        """Take what is under the pointer."""
        if event.button() != Qt.MouseButton.LeftButton:
            return
        self._gesture += 1
        self._drag = self._under(event.position())
        what, name = self._drag
        self.dragged = name if what == "ceiling" else ""
        self._moved, part, which = False, self._workspace.part, self._workspace.pass_
        if what in ("bar", "mark"):
            adding = event.modifiers() & Qt.KeyboardModifier.ControlModifier
            ids = [*self._workspace.selected_marks, name] if adding else [name]
            if adding or name not in self._workspace.selected_marks:
                self._workspace.select_marks(list(dict.fromkeys(ids)), show=self._workspace.order != IN_TIME)
            self._before = {m.id: part.change(m) for m in self._workspace.marks_selected()}
            self._held = (event.position().y(), self._before.get(name, 0.0))
            taken = part.mark(name)
            if taken is not None:
                self._taken_hz = (
                    frequencies.hz_at(self._places.plot(), event.position().x()),
                    frequencies.band_of(taken),
                )
        elif what == "ceiling":
            self._held = (event.position().y(), getattr(part.settings(which.kind), name))
        else:
            self._band = (event.position(), event.position())

    def move(self, event: QMouseEvent) -> None:
        """Drag what was taken; else say what can be done here."""
        at = event.position()
        if self._drag is None:
            self._hover(at)
            return
        what, name = self._drag
        gesture = ("skyline", self._gesture)
        if what in ("ceiling", "bar"):
            (y, value), fine = self._held, event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            way = -1.0 if what == "ceiling" and name in self._workspace.pass_.skyline.downward else 1.0
            value += way * (_FINE if fine else 1.0) * (self._places.db_at(at.y()) - self._places.db_at(y))
            self._held, self._moved = (at.y(), value), True
        if what == "ceiling":
            low, high = value_range(self._workspace.pass_.kind, name)
            self._workspace.settings.set_setting(name, min(high, max(low, value)), gesture, same_held())
        if what in ("bar", "mark") and self._workspace.over_frequency:
            self._drag_sideways(name, at.x(), gesture)
        if what == "bar":
            by = value - self._before.get(name, 0.0)
            self._workspace.commands.set_changes({mark: change + by for mark, change in self._before.items()}, gesture)
        elif what == "nothing" and self._workspace.over_frequency:
            hz = frequencies.hz_at(self._places.plot(), at.x())
            without = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._workspace.commands.hear_near(hz, without)
        elif what == "nothing" and self._band:
            self._band = (self._band[0], at)
            self._view.update()

    def release(self, event: QMouseEvent) -> None:
        """Let go; what was dragged across is selected."""
        self._workspace.band_left.emit()
        if self._band:
            box, self._band = QRectF(*self._band).normalized(), None
            if box.width() > 4:
                inside = [m.id for m, bar in self._places.bars() if box.left() <= bar.center().x() <= box.right()]
                self._workspace.select_marks(inside, show=False)
            else:
                self._workspace.select_marks([], show=False)
        elif self._drag and self._drag[0] in ("bar", "mark") and not self._moved:
            adding = event.modifiers() & Qt.KeyboardModifier.ControlModifier
            if len(self._workspace.selected_marks) > 1 and not adding:
                self._workspace.select_marks([self._drag[1]], show=False)
        self._drag, self.dragged = None, ""
        self._view.update()

    def _drag_sideways(self, name: str, x: float, gesture: object) -> None:
        """Move a band along the frequencies, as far as the pointer."""
        hz, (low, high) = self._taken_hz
        ratio = frequencies.hz_at(self._places.plot(), x) / hz
        if self._moved or abs(math.log2(ratio)) > _LEAST_OCTAVES:
            self._moved = True
            self._workspace.commands.set_band(name, low * ratio, high * ratio, gesture)

    def double_click(self, event: QMouseEvent) -> None:
        """Make a band where there is nothing."""
        at = event.position()
        if self._workspace.pass_.hand.made is not None and self._under(at)[0] == "nothing":
            self._drag = self._band = None
            self._workspace.commands.make_band(frequencies.hz_at(self._places.plot(), at.x()))

    def wheel(self, event: QWheelEvent) -> None:
        """Over frequency: the width of the selected band."""
        mark = self._workspace.mark
        if not self._workspace.over_frequency or mark is None:
            event.ignore()
            return
        self._workspace.commands.widen_band(mark, event.angleDelta().y(), ("wheel", mark.id))

    def ask_for_menu(self, event: QContextMenuEvent) -> None:
        """A menu for what is under the pointer."""
        what, name = self._under(QPointF(event.pos()))
        mark = self._workspace.part.mark(name) if what in ("bar", "mark") else None
        self.menu_asked.emit(event.globalPos(), mark, None)

    def _hover(self, at: QPointF) -> None:
        what, name = self._under(at)
        shapes = {
            "ceiling": Qt.CursorShape.SizeVerCursor,
            "bar": Qt.CursorShape.SizeVerCursor,
            "mark": Qt.CursorShape.PointingHandCursor,
        }
        self._view.setCursor(shapes.get(what, Qt.CursorShape.ArrowCursor))
        tips = {
            "ceiling": "Drag: the ceiling. What stands over the lower of both is brought down to it. Shift: finely. "
            "Of several parts each moves by as much; Ctrl: all to the same.",
            "bar": "Drag: change the selected marks alone. Shift: finely.",
            "mark": "Click: select. Ctrl: select several.",
        }
        tip = tips.get(what, "Drag across the bars to select several.")
        mark = self._workspace.part.mark(name) if what in ("bar", "mark") else None
        self._view.setToolTip(f"{mark_words(self._workspace, mark)}\n{tip}" if mark else tip)
