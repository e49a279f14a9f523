"""A line of text that gives way: what does not fit ends in an ellipsis, and stands whole in the tip."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QLabel, QWidget


class ElidedLabel(QLabel):
    """One line, as wide as there is room for."""

    def __init__(self, look: str = "", parent: QWidget | None = None) -> None:
        """``look``: its name in the style sheet."""
        super().__init__(parent, objectName=look)
        self._whole = ""

    def setText(self, text: str) -> None:
        """Show a text."""
        self._whole = text
        self.setAccessibleName(text)
        self._fit()

    def text(self) -> str:
        """The whole text."""
        return self._whole

    def minimumSizeHint(self) -> QSize:
        return QSize(24, super().minimumSizeHint().height())

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self._whole) + 4, super().sizeHint().height())

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        shown = self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, self.width())
        super().setText(shown)
        self.setToolTip(self._whole if shown != self._whole else "")
