"""Labels and tips: text is always plain, whatever a name from a file looks like, and gives way to the window.

Qt takes a text that looks like markup for markup, and would load what it names: every label and tip comes from here.
"""

from __future__ import annotations

import html
import re
from typing import Any

from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtGui import QHelpEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QApplication, QLabel, QToolTip, QWidget

from isophon.app.translation import tr

_BETWEEN = " · "
_UNBROKEN = re.compile(r"\S{40}(?=\S)")
_BREAK_HERE = "\N{ZERO WIDTH SPACE}"
LONGEST_NAME = 200  # letters that are shown


class Label(QLabel):
    """Plain text; a word that is too long for a line is broken where lines are."""

    def __init__(self, text: str = "", parent: QWidget | None = None, **more: Any) -> None:
        super().__init__(parent, textFormat=Qt.TextFormat.PlainText, **more)
        self._shown = ""
        self.setText(text)

    def setText(self, text: str) -> None:
        """Show a text."""
        self._shown = text
        super().setText(_UNBROKEN.sub(lambda run: run[0] + _BREAK_HERE, text) if self.wordWrap() else text)

    def text(self) -> str:
        """The text as it was set."""
        return self._shown

    def clear(self) -> None:
        """Show nothing."""
        self.setText("")


class PlainTips(QObject):
    """Shows the tips of all widgets of an application as plain text."""

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if not isinstance(event, QHelpEvent) or not isinstance(watched, QWidget):
            return False
        text, view = watched.toolTip(), watched.parent()
        if isinstance(view, QAbstractItemView) and watched is view.viewport():
            index = view.indexAt(event.pos())
            text = str(index.data(Qt.ItemDataRole.ToolTipRole) or text) if index.isValid() else text
        if not text:
            return False
        QToolTip.showText(event.globalPos(), as_markup(tr(text)), watched)
        return True


def as_markup(text: str) -> str:
    """A plain text as markup that shows just that."""
    lines = html.escape(_UNBROKEN.sub(lambda run: run[0] + _BREAK_HERE, text)).split("\n")
    return f"<p>{'<br>'.join(lines)}</p>"


def short(name: str) -> str:
    """A name as it is shown: of one that is too long, its beginning."""
    return name if len(name) <= LONGEST_NAME else f"{name[:LONGEST_NAME]}…"


def have_plain_tips(app: QApplication) -> None:
    """Have an application show its tips as plain text, however often that is asked for."""
    if app.findChild(PlainTips) is None:
        app.installEventFilter(PlainTips(app))


class ElidedLabel(Label):
    """One line, as wide as there is room for."""

    def __init__(self, look: str = "", parent: QWidget | None = None, least: float = 0.0) -> None:
        """``look``: its name in the style sheet. ``least``: how much of its first part must fit, else it is empty."""
        self._least, self._whole = least, ""
        super().__init__("", parent, objectName=look)

    def setText(self, text: str) -> None:
        """Show a text."""
        self._whole = self._shown = text
        self.setAccessibleName(text)
        self._fit()

    def text(self) -> str:
        """The whole text."""
        return self._whole

    def shown(self) -> str:
        """What there is room for."""
        return QLabel.text(self)

    def minimumSizeHint(self) -> QSize:
        return QSize(24, super().minimumSizeHint().height())

    def sizeHint(self) -> QSize:
        return QSize(self.fontMetrics().horizontalAdvance(self._whole) + 4, super().sizeHint().height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        shown = self._as_fits()
        QLabel.setText(self, shown)
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
