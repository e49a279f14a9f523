"""A folder that is chosen once: its name, a button that asks for it, and one that forgets it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QWidget

from isophon.app.translation import tr
from isophon.app.views.file_dialog import folder_to_use
from isophon.app.views.labels import Label
from isophon.app.views.made import make_row, named

_LONGEST = 34  # letters of a path that are shown


class FolderChoice(QWidget):
    """Shows a folder. ``chosen(path)``: another one, empty for none."""

    chosen = Signal(str)

    def __init__(self, name: str, path: str, none: str) -> None:
        """``name``: what it is for; ``none``: what stands there where none was chosen."""
        super().__init__()
        self._title, self._none, self.path = name, none, path
        self.ask = QPushButton(tr("Choose…"))
        self.ask.setAccessibleName(tr(f"{name}: choose a folder"))
        self.ask.setToolTip("Choose the folder")
        self.ask.clicked.connect(self._ask)
        self.shown = Label("", objectName="soft")
        self.clear = named(QPushButton(tr("Clear")), "plain")
        self.clear.setAccessibleName(tr(f"{name}: no folder"))
        self.clear.setToolTip("Choose no folder")
        self.clear.clicked.connect(lambda: self._take(""))
        row = make_row(self, between=8)
        row.addWidget(self.ask)
        row.addWidget(self.shown, 1)
        row.addWidget(self.clear)
        self._show()

    def _ask(self) -> None:
        folder = folder_to_use(self, self._title, Path(self.path) if self.path else None)
        if folder is not None:
            self._take(str(folder))

    def _take(self, path: str) -> None:
        self.path = path
        self._show()
        self.chosen.emit(path)

    def _show(self) -> None:
        short = self.path if len(self.path) <= _LONGEST else f"…{self.path[-_LONGEST:]}"
        self.shown.setText(short or tr(self._none))
        self.shown.setToolTip(self.path)
        self.shown.setTextFormat(Qt.TextFormat.PlainText)
        self.clear.setVisible(bool(self.path))
