"""A line of text that gives way: what does not fit is left out part by part, and stands whole in the tip."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QLabel, QWidget

_BETWEEN = " · "


class ElidedLabel(QLabel):
    """One line, as wide as there is room for."""

    def __init__(self, look: str = "", parent: QWidget | None = None, least: float = 0.0) -> None:
        """``look``: its name in the style sheet. ``least``: how much of its first part must fit, else it is empty."""
        super().__init__(parent, objectName=look)
        self._least = least
        self._whole = ""

    def setText(self, text: str) -> None:
        """Show a text."""
        self._whole = text
        self.setAccessibleName(text)
        self._fit()

    def text(self) -> str:
        """The whole text."""
        return self._whole

    def shown(self) -> str:
        """What there is room for."""
        return super().text()

    def minimumSizeHint(self) -> QSize:
        return QSize(24, super().minimumSizeHint().height())

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self._whole) + 4, super().sizeHint().height())

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        shown = self._as_fits()
        super().setText(shown)
        self.setToolTip(self._whole if shown != self._whole else "")

    def _as_fits(self) -> str:
        """As many parts as there is room for."""
        metrics, parts = self.fontMetrics(), self._whole.split(_BETWEEN)
        for count in range(len(parts), 0, -1):
            shown = _BETWEEN.join(parts[:count]) + (" …" if count < len(parts) else "")
            if metrics.horizontalAdvance(shown) <= self.width():
                return shown
        if self.width() < self._least * metrics.horizontalAdvance(parts[0]):
            return ""
        return metrics.elidedText(parts[0], Qt.TextElideMode.ElideRight, self.width())
