"""The handles at the moments of the selected word: dragged, made, taken away, made to stay."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.passes import Anchors, AnchorTools
from isophon.app.model.workspace import Workspace
from isophon.app.views.label_room import LabelRoom, draw_label, width_of
from isophon.core.errors import CallError
from isophon.core.session import edits

_GRAB, _SIZE, _UP = 7, 5, 14
_STEP_S, _COARSE_S = 0.001, 0.01
ANCHOR_KEYS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Insert, Qt.Key.Key_Delete, Qt.Key.Key_End)


class AnchorHandles:
    """Over the wave, where a pass ties moments of its words to another part's; ``x_of(seconds)``: the place of a time.

    A handle that is pressed is the selected one until another word is; keys move it, make one, take it away.
    """

    def __init__(self, workspace: Workspace, x_of: Callable[[float], float]) -> None:
        self.workspace, self._x_of = workspace, x_of
        self.taken: tuple[str, int] | None = None
        self._gesture, self._from = 0, 0.0

    @property
    def anchors(self) -> Anchors:
        """Those of the selected word; none in passes that tie nothing together."""
        part, mark = self.workspace.part, self.workspace.mark
        tools = self.workspace.pass_.trace.anchors
        if tools is None or part.role == "lead" or mark is None or mark.kind != self.workspace.pass_.kind:
            return ()
        return tools.anchors_of(part, mark)

    @property
    def _tools(self) -> AnchorTools:
        tools = self.workspace.pass_.trace.anchors
        assert tools is not None, "asked for where there are anchors only"
        return tools

    @property
    def index(self) -> int | None:
        """The selected one."""
        mark, count = self.workspace.mark, len(self.anchors)
        return self.taken[1] if self.taken and mark and self.taken[0] == mark.id and self.taken[1] < count else None

    def draw(self, painter: QPainter, wave: QRectF) -> None:
        """A diamond each where it is heard; a square stays where it was sung; the selected one is full."""
        painter.save()
        painter.setClipRect(wave.adjusted(0, 0, 0, 4))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        part, mark = self.workspace.part, self.workspace.mark
        for i, (at, _) in enumerate(self.anchors):
            place = self._place(at, wave)
            stays = mark is not None and any(a == at == b for a, b in mark.hand.anchors)
            painter.setPen(QPen(theme.SELECTED, 1.6))
            painter.setBrush(theme.SELECTED if i == self.index else theme.PAPER)
            painter.drawLine(QPointF(place.x(), place.y() + _SIZE), QPointF(place.x(), wave.bottom()))
            if stays:
                painter.drawRect(QRectF(place.x() - _SIZE + 1, place.y() - _SIZE + 1, 2 * _SIZE - 2, 2 * _SIZE - 2))
            else:
                corners = ((0, -_SIZE), (_SIZE, 0), (0, _SIZE), (-_SIZE, 0))
                painter.drawPolygon(QPolygonF([place + QPointF(*corner) for corner in corners]))
        if self.index is not None:
            at, _ = self.anchors[self.index]
            self._tell(painter, wave, at, f"{theme.signed(1000 * (part.heard_at(at) - at), 0)} ms")
        painter.restore()

    def _tell(self, painter: QPainter, wave: QRectF, at: float, words: str) -> None:
        """How far one is moved, beside it where no other handle is."""
        room = LabelRoom()
        for other, _ in self.anchors:
            place = self._place(other, wave)
            room.take(QRectF(place.x() - _SIZE, place.y() - _SIZE, 2 * _SIZE, 2 * _SIZE))
        painter.setFont(theme.mono(theme.SMALL))
        place, wide, high = self._place(at, wave), width_of(painter, words), painter.fontMetrics().height()
        after, before, above = place.x() + _SIZE + 3, place.x() - _SIZE - 3 - wide, place.y() - _SIZE - 3 - high
        tried = ((after, place.y() - high / 2), (before, place.y() - high / 2), (after, above), (before, above))
        for left, top in tried:
            box = QRectF(left, top, wide, high)
            if wave.contains(box) and room.take(box):
                draw_label(painter, box, words, theme.SELECTED)
                return

    def _place(self, at: float, wave: QRectF) -> QPointF:
        return QPointF(self._x_of(self.workspace.part.heard_at(at)), wave.bottom() - _UP)

    def near(self, pos: QPointF, wave: QRectF) -> int | None:
        """The handle at a place."""
        if abs(pos.y() - (wave.bottom() - _UP)) > _GRAB:
            return None
        off = [abs(self._place(at, wave).x() - pos.x()) for at, _ in self.anchors]
        return off.index(min(off)) if off and min(off) <= _GRAB else None

    def press(self, pos: QPointF, wave: QRectF) -> bool:
        """Select the handle at a place; whether there is one."""
        index, mark = self.near(pos, wave), self.workspace.mark
        if index is None or mark is None:
            return False
        self.taken, self._gesture = (mark.id, index), self._gesture + 1
        at, _ = self.anchors[index]
        self._from = self.workspace.part.heard_at(at)
        self.workspace.selection_changed.emit()
        return True

    def drag(self, by_s: float) -> None:
        """Let the selected one be heard so much later than when it was pressed."""
        self._move(self._from + by_s, ("anchor", self._gesture))

    def double_click(self, pos: QPointF, wave: QRectF, seconds: float) -> bool:
        """Let the handle there stay where it was sung; else make one, where a word is selected there."""
        mark = self.workspace.mark
        if mark is None or not self.anchors or not wave.contains(pos):
            return False
        index = self.near(pos, wave)
        if index is not None:
            self._edit("keep an anchor in place", partial(self._tools.with_pinned, index=index))
            return True
        if not mark.span[0] <= seconds <= mark.span[1]:
            return False
        self.make(seconds)
        return True

    def make(self, seconds: float) -> None:
        """Make a handle at a second of the part."""
        mark = self.workspace.mark
        if mark is None or not self.anchors:
            return
        if self._edit("a new anchor", partial(self._tools.with_one_more, at=seconds)):
            places = [at for at, _ in self.anchors]
            self.taken = mark.id, min(range(len(places)), key=lambda i: abs(places[i] - seconds))

    def remove(self) -> bool:
        """Take the selected one away; whether there was one."""
        if self.index is None:
            return False
        self._edit("delete an anchor", partial(self._tools.without, index=self.index))
        self.taken = None
        return True

    def key(self, key: int, modifiers: Qt.KeyboardModifier, heard_at: float) -> bool:
        """Work by keys: Left, Right: the next handle, with Ctrl they move it; Insert makes one, End lets it stay."""
        if not self.anchors or self.workspace.mark is None:
            return False
        step = {int(Qt.Key.Key_Left): -1, int(Qt.Key.Key_Right): 1}.get(key)
        if key == Qt.Key.Key_Insert:
            self.make(heard_at)
        elif key == Qt.Key.Key_Delete and self.index is not None:
            self.remove()
        elif key == Qt.Key.Key_End and self.index is not None:
            self._edit("keep an anchor in place", partial(self._tools.with_pinned, index=self.index))
        elif step and modifiers & Qt.KeyboardModifier.ControlModifier and self.index is not None:
            size = _COARSE_S if modifiers & Qt.KeyboardModifier.ShiftModifier else _STEP_S
            at, _ = self.anchors[self.index]
            self._move(self.workspace.part.heard_at(at) + step * size, ("anchor key", self.taken))
        elif step and not modifiers:
            count = len(self.anchors)
            at_first = 0 if step > 0 else count - 1
            self.taken = (self.workspace.mark.id, at_first if self.index is None else (self.index + step) % count)
            self.workspace.selection_changed.emit()
        else:
            return False
        return True

    def _move(self, to_s: float, gesture: object) -> None:
        if self.index is not None:
            self._edit("an anchor by hand", partial(self._tools.with_moved, index=self.index, to_s=to_s), gesture)

    def _edit(self, words: str, change: Callable[..., Anchors], gesture: object = None) -> bool:
        workspace, mark = self.workspace, self.workspace.mark
        if mark is None:
            return False
        part_id, name = workspace.part.id, mark.id
        try:
            workspace.edit(f"{words} · {workspace.where()}",
                           lambda s: edits.set_anchors(s, part_id, name, change), gesture)  # fmt: skip
        except CallError as error:
            workspace.notice.emit(f"No anchor was made: {error}.")
            return False
        return True
