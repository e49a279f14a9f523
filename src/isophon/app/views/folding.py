"""A column at the side of the window that folds to a strip with a button."""

from __future__ import annotations

from PySide6.QtCore import QSize
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QPushButton, QWidget

from isophon.app import theme
from isophon.app.views.made import make_row, named

_STRIP, _BUTTON, _DOWN = 20, 20, 5


class Folding(QWidget):
    """Holds a widget, ``width`` pixels wide; a button in its upper right corner folds it away and brings it back.

    ``what``: what it holds, in words; ``at_left``: at which side of the window it stands.
    """

    def __init__(self, inside: QWidget, width: int, what: str, at_left: bool, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel" if at_left else "page")
        self.inside, self._width, self._what, self._at_left = inside, width, what, at_left
        row = make_row(self)
        row.addWidget(inside)
        self.button = named(QPushButton(self), "fold")
        self.button.setFixedSize(QSize(theme.u(_BUTTON), theme.u(_BUTTON)))
        self.button.clicked.connect(lambda: self.fold(not self.folded))
        self.fold(False)

    @property
    def folded(self) -> bool:
        """Whether only the strip is seen."""
        return self.inside.isHidden()

    def fold(self, on: bool) -> None:
        """Fold it away, or bring it back."""
        self.inside.setVisible(not on)
        self.setFixedWidth(theme.u(_STRIP) if on else self._width)
        self.button.setText("›" if on == self._at_left else "‹")
        self.button.setToolTip(f"Show {self._what}" if on else f"Fold {self._what} away")
        self.button.setAccessibleName(self.button.toolTip())

    def resizeEvent(self, _event: QResizeEvent) -> None:
        self.button.move(self.width() - self.button.width(), theme.u(_DOWN))
        self.button.raise_()
