"""Named places in the song: naming one and going from one to the next."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QInputDialog, QWidget

from isophon.app import theme
from isophon.app.model.hearing import Hearing
from isophon.app.model.workspace import Workspace


class Markers(QObject):
    """What a person does with the markers of the song that is open; ``told(words)`` says what hinders."""

    told = Signal(str)

    def __init__(self, workspace: Workspace, hearing: Hearing, page: QWidget) -> None:
        super().__init__(page)
        self._workspace, self._hearing, self._page = workspace, hearing, page

    def _here(self) -> float:
        return self._hearing.heard_at() + self._workspace.offset

    def name_place(self) -> None:
        """Ask for a name for what is heard now."""
        self.name_at(self._here())

    def name_at(self, at: float) -> None:
        """Ask for a name for a second of the song."""
        name, given = QInputDialog.getText(self._page, "Marker", f"A name for {theme.clock(max(0.0, at))}")
        if given:
            self._workspace.mark_place(at, name)

    def walk(self, step: int) -> None:
        """Go to the next or previous marker."""
        places = [m.at for m in self._workspace.session.markers]
        if not places:
            self.told.emit("There is no marker yet. Press K to name this place.")
            return
        here = self._here()
        later, earlier = [t for t in places if t > here + 0.01], [t for t in places if t < here - 0.3]
        self.go_to((later or places[:1])[0] if step > 0 else (earlier or places[-1:])[-1])

    def go_to(self, song_s: float) -> None:
        """Go to a second of the song."""
        at = song_s - self._workspace.offset
        self._workspace.select(None)
        self._hearing.seek(at)
        first, last = self._workspace.view
        if not first <= at <= last:
            self._workspace.glide_to(at - 0.2 * (last - first), at + 0.8 * (last - first))
