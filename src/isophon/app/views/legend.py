"""What the lines of the skyline are, beside its name."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace

_LEAST = 150


class Legend(QWidget):
    """Beside the skyline's name: what each of its ceilings is, with its line. Nothing of it lies over the bars."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.setMinimumHeight(20)
        self._wide = 0
        workspace.part_changed.connect(self._show)
        workspace.take_changed.connect(self._show)
        self._show()

    def _rows(self) -> list[tuple[str, bool]]:
        part, which = self.workspace.part, self.workspace.pass_
        if not self.workspace.marks:
            return []
        settings = getattr(part, which.kind)
        return [(f"{words} {theme.signed(getattr(settings, name))} {which.unit}", in_force)
                for name, words, _, in_force in which.ceilings(part)]  # fmt: skip

    def _show(self) -> None:
        rows = self._rows()
        wide = 12 + sum(theme.text_width(words, 13) + 44 for words, _ in rows)
        self.setMaximumWidth(wide)
        self.setMinimumWidth(min(wide, theme.u(_LEAST)))  # where there is little room the words end early
        self._wide = wide
        self.updateGeometry()
        self.setAccessibleName(", ".join(words for words, _ in rows))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(self._wide, 20)

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        x, middle = 12.0, self.height() / 2  # apart from the words before it
        for words, in_force in self._rows():
            style = Qt.PenStyle.SolidLine if in_force else Qt.PenStyle.DashLine
            painter.setPen(QPen(theme.OVER, 2 if in_force else 1.2, style))
            painter.drawLine(QPointF(x, middle), QPointF(x + 22, middle))
            painter.setPen(theme.OVER)
            painter.setFont(theme.sans(13))
            width = theme.text_width(words, 13) + 4
            painter.drawText(QRectF(x + 28, 0, width, self.height()), Qt.AlignmentFlag.AlignVCenter, words)
            x += width + 40
