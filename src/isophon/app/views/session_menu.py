"""The menu behind "More": saving, opening, voice cards, and what is wanted or not."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from isophon.app import theme
from isophon.app.model.state import recent_sessions
from isophon.app.model.workspace import Workspace
from isophon.app.views.file_dialog import file_to_open, file_to_save
from isophon.app.views.labels import short
from isophon.core.errors import IsophonError
from isophon.core.reading import path_of
from isophon.core.session import file, layout, marker_import
from isophon.core.session.items import Marker
from isophon.core.session.notes import part_of, song_time

_MOST_LISTED = 100  # markers


class SessionMenu(QMenu):
    """Acts on the workspace; ``rest`` is the action that turns the rest reminder on."""

    open_asked = Signal()
    keys_asked = Signal()
    help_asked = Signal()
    collect_asked = Signal()
    preferences_asked = Signal()
    tour_asked = Signal()
    history_asked = Signal()
    versions_asked = Signal()
    marks_asked = Signal()
    cards_asked = Signal()
    marker_chosen = Signal(object)
    new_asked = Signal()
    close_asked = Signal()
    quit_asked = Signal()
    path_chosen = Signal(object)

    def __init__(self, workspace: Workspace, parent: QWidget) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.addAction("New\tCtrl+N", self.new_asked.emit)
        self.addAction("Open or add…\tCtrl+O", self.open_asked.emit)
        self.recent = self.addMenu("Recent")
        self.recent.aboutToShow.connect(self._list_recent)
        self.addSeparator()
        self.addAction("Save\tCtrl+S", self.save)
        self.addAction("Save as…\tCtrl+Shift+S", self.save_as)
        self.addAction("Copy with its recordings…", self.collect_asked.emit)
        self.addSeparator()
        self.addAction("History\tCtrl+H", self.history_asked.emit)
        self.addAction("Versions", self.versions_asked.emit)
        self.addAction("Marks as a table\tCtrl+T", self.marks_asked.emit)
        self.markers = self.addMenu("Markers and notes")
        self.markers.aboutToShow.connect(self._list_markers)
        self.addSeparator()
        self.addAction("Find marks again", workspace.analysis.look_again)
        self.addAction("Voice cards", self.cards_asked.emit)
        self.addSeparator()
        self.rest = self.addAction("Remind me to rest my ears")
        self.rest.setCheckable(True)
        self.addAction("Preferences…\tCtrl+,", self.preferences_asked.emit)
        self.addAction("Help\tF1", self.help_asked.emit)
        self.addAction("Guided tour", self.tour_asked.emit)
        self.addAction("Keys\tShift+F1", self.keys_asked.emit)
        self.addSeparator()
        self.addAction("Close the session\tCtrl+W", self.close_asked.emit)
        self.addAction("Quit\tCtrl+Q", self.quit_asked.emit)

    def save(self) -> None:
        """Save to the session's file."""
        if self.workspace.keeper.saved_as:
            self.workspace.keeper.save(self.workspace.keeper.saved_as)
        else:
            self.save_as()

    def save_as(self) -> None:
        """Save under a name that is asked for."""
        session = self.workspace.session
        folder = path_of(session.items[0].source.path).parent if session.items else Path()
        start = self.workspace.keeper.saved_as or folder / (session.name + file.ENDING)
        kinds = f"Isophon session (*{file.ENDING})"
        path = file_to_save(self, "Save the session", start, kinds, file.ENDING)
        if path is not None:
            self.workspace.keeper.save(path)

    def _list_recent(self) -> None:
        """The sessions that were saved or opened last, this one aside."""
        self.recent.clear()
        paths = [path for path in recent_sessions() if path != self.workspace.keeper.saved_as]
        for path in paths:
            words = f"{short(path.stem)}   {path.parent}".replace("&", "&&")
            self.recent.addAction(words, partial(self.path_chosen.emit, path))
        if not paths:
            self.recent.addAction("None yet").setEnabled(False)

    def _list_markers(self) -> None:
        """Each marker with what can be done with it."""
        workspace = self.workspace
        self.markers.clear()
        if not workspace.session.markers:
            words = "None yet: press K to name this place, Shift+K to write a note at a mark"
            self.markers.addAction(words).setEnabled(False)
        markers = workspace.session.markers
        if len(markers) > _MOST_LISTED:
            words = f"The first {_MOST_LISTED} of {len(markers)}; Ctrl+PgDown walks them all"
            self.markers.addAction(words).setEnabled(False)
        self.markers.addAction("Import…", self._import_markers)
        self.markers.addSeparator()
        for marker in markers[:_MOST_LISTED]:
            whose = f"{short(part.name)}, " if (part := part_of(workspace.session, marker)) else ""
            at = theme.clock(song_time(workspace.session, marker))
            inner = self.markers.addMenu(f"{short(marker.name)}   {whose}{at}".replace("&", "&&"))
            inner.addAction("Go there", partial(self.marker_chosen.emit, marker))
            inner.addAction("Change the words…" if marker.part else "Rename…", partial(self._rename, marker))
            inner.addAction("Remove", partial(self._remove, marker))

    def _import_markers(self) -> None:
        """Markers from a list of labels that is asked for, as one step."""
        path = file_to_open(self, "Import markers", None, "Labels (*.txt *.tsv)")
        if path is None:
            return
        try:
            places = marker_import.places_in(path)
        except IsophonError as error:
            self.workspace.troubled.emit(str(error))
            return
        before = len(self.workspace.session.markers)
        self.workspace.edit(f"import markers of {path.name}", lambda s: marker_import.import_markers(s, places))
        count = len(self.workspace.session.markers) - before
        rest = "" if count == len(places) else f"; {len(places) - count} are there already or have no room"
        self.workspace.notice.emit(f"{count} markers were imported from {path.name}{rest}.")

    def _remove(self, marker: Marker) -> None:
        self.workspace.edit(f"remove {marker.name}", lambda s: layout.remove_marker(s, marker.id))

    def _rename(self, marker: Marker) -> None:
        asked = ("Note", "What does it say?") if marker.part else ("Marker", "What is it called?")
        name, given = QInputDialog.getText(self, *asked, text=marker.name)
        if given:
            self.workspace.edit(f"rename {marker.name}", lambda s: layout.change_marker(s, marker.id, name=name))
