"""How long the change of the selected mark takes to come and to go, as handles at the top of its box."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.core.marks import Mark

_GRAB, _SIZE = 7, 4.5
_ENDS = ("comes", "goes")


class FadeHandles:
    """Dragging one along the time sets the fade of that end for the selected marks."""

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._taken = ""
        self._gesture = 0

    def draw(self, painter: QPainter, box: QRectF, mark: Mark) -> None:
        """The handles, each with the slope of its fade, over a mark's box."""
        by_hand = mark.hand.fades_ms is not None
        painter.setPen(QPen(theme.HAND_FLAG if by_hand else theme.SELECTED, 1.4))
        painter.setBrush(theme.HAND_FLAG if by_hand else theme.PAPER)
        for end, at in self._places(box, mark).items():
            edge = box.left() if end == "comes" else box.right()
            painter.drawLine(QPointF(edge, box.bottom()), at)
            painter.drawPolygon(QPolygonF([at + QPointF(x, y) for x, y in
                                           ((-_SIZE, 0), (0, -_SIZE), (_SIZE, 0), (0, _SIZE))]))  # fmt: skip

    def near(self, box: QRectF, mark: Mark, at: QPointF) -> str:
        """The handle under the pointer, '' for none."""
        places = self._places(box, mark)
        near = [(abs(p.x() - at.x()) + abs(p.y() - at.y()), end) for end, p in places.items()]
        apart, end = min(near, default=(_GRAB + 1, ""))
        return end if apart <= _GRAB else ""

    def press(self, box: QRectF, mark: Mark, at: QPointF) -> bool:
        """Take a handle; whether there is one."""
        self._taken = self.near(box, mark, at)
        self._gesture += 1
        return bool(self._taken)

    def drag(self, box: QRectF, mark: Mark, at: QPointF) -> None:
        """Move the handle that was taken as far as the pointer."""
        start, end = mark.span
        x = min(box.right(), max(box.left(), at.x()))
        away = x - box.left() if self._taken == "comes" else box.right() - x
        ms = 1000 * away / max(1.0, box.width()) * (end - start)
        comes, goes = self.workspace.commands.fades_of(mark)
        fades = (ms, goes) if self._taken == "comes" else (comes, ms)
        self.workspace.commands.set_fades(fades, ("fade", self._gesture))

    def _places(self, box: QRectF, mark: Mark) -> dict[str, QPointF]:
        tools = self.workspace.pass_.hand.fades
        if tools is None or self.workspace.over_frequency:
            return {}
        start, end = mark.span
        scale = box.width() / max(1e-3, end - start) / 1000
        comes, goes = (min(ms * scale, box.width()) for ms in self.workspace.commands.fades_of(mark))
        top = box.top() + _SIZE
        return dict(zip(_ENDS, (QPointF(box.left() + comes, top), QPointF(box.right() - goes, top)), strict=True))
