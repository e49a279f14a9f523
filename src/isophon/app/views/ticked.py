"""A button that opens a list of things to tick, and tells which are ticked."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QMenu, QPushButton, QWidget

from isophon.app import theme
from isophon.app.translation import tr

Rows = Sequence[tuple[str, str, bool]]  # names, words, and whether each is ticked


class Ticked(QPushButton):
    """``rows()``: what can be ticked now; ``wide``: the room for the words, pixels. ``toggled_one(name)``."""

    toggled_one = Signal(str)

    def __init__(self, rows: Callable[[], Rows], wide: int, parent: QWidget | None = None) -> None:
        super().__init__("", parent)
        self._rows, self._wide = rows, wide
        self.setMenu(QMenu(self))
        self.menu().aboutToShow.connect(self.show_rows)
        self.setMinimumWidth(theme.u(90))

    def show_rows(self) -> None:
        """Show what can be ticked and what is."""
        rows, menu = self._rows(), self.menu()
        menu.clear()
        for name, words, ticked in rows:
            action = menu.addAction(tr(words.replace("&", "&&")))
            action.setCheckable(True)
            action.setChecked(ticked)
            action.triggered.connect(partial(self._toggle, name))
        words = ", ".join(words for _, words, ticked in rows if ticked)
        shown = tr(words)
        fitting = self.fontMetrics().elidedText(shown, Qt.TextElideMode.ElideRight, theme.u(self._wide))
        self.setText(fitting.replace("&", "&&"))
        self.setAccessibleDescription(shown)

    def _toggle(self, name: str) -> None:
        self.toggled_one.emit(name)
        self.show_rows()
