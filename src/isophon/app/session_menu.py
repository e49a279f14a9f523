"""The menu behind "More": saving, opening, voice cards, and what is wanted or not."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QInputDialog, QMenu, QWidget

from isophon.app.desk import Desk
from isophon.core.errors import IsophonError
from isophon.core.session import edits, file

_CARDS = "Voice card (*.voicecard)"


class SessionMenu(QMenu):
    """Acts on the desk; ``rest`` is the action that turns the rest reminder on."""

    open_asked = Signal()
    keys_asked = Signal()

    def __init__(self, desk: Desk, parent: QWidget) -> None:
        super().__init__(parent)
        self.desk = desk
        self.addAction("Save\tCtrl+S", self.save)
        self.addAction("Save as…\tCtrl+Shift+S", self.save_as)
        self.addAction("Open…\tCtrl+O", self.open_asked.emit)
        self.addSeparator()
        self.addAction("Look for esses again", desk.look_again)
        self.addAction("Keep these settings as a voice card…", self.save_card)
        self.addAction("Start from a voice card…", self.load_card)
        self.addSeparator()
        self.rest = self.addAction("Remind me to rest my ears")
        self.rest.setCheckable(True)
        self.addAction("Keys\tF1", self.keys_asked.emit)

    def save(self) -> None:
        """Save to the session's file."""
        if self.desk.saved_as:
            self.desk.save(self.desk.saved_as)
        else:
            self.save_as()

    def save_as(self) -> None:
        """Save under a name that is asked for."""
        start = self.desk.saved_as or Path(self.desk.part.source.path).with_suffix(file.ENDING)
        name, _ = QFileDialog.getSaveFileName(self, "Save the session", str(start), f"Isophon session (*{file.ENDING})")
        if name:
            path = Path(name)
            self.desk.save(path if path.suffix == file.ENDING else path.with_name(path.name + file.ENDING))

    def save_card(self) -> None:
        """Keep the settings in force for one singer."""
        singer, named = QInputDialog.getText(self, "Voice card", "Whose voice is it?")
        if not (named and singer.strip()):
            return
        name, _ = QFileDialog.getSaveFileName(self, "Keep the voice card", f"{singer.strip()}.voicecard", _CARDS)
        if name:
            try:
                file.save_card(singer.strip(), self.desk.part.ess, Path(name))
            except IsophonError as error:
                self.desk.told.emit(str(error))

    def load_card(self) -> None:
        """Use the settings of a voice card; one step of the history."""
        name, _ = QFileDialog.getOpenFileName(self, "Start from a voice card", "", _CARDS)
        if name:
            try:
                settings = file.load_card(Path(name))
            except IsophonError as error:
                self.desk.told.emit(str(error))
                return
            self.desk.edit("start from a voice card", lambda s: edits.set_settings(s, self.desk.part.id, settings))
