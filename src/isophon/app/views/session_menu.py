"""The menu behind "More": saving, opening, voice cards, and what is wanted or not."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QInputDialog, QMenu, QWidget

from isophon.app import theme
from isophon.app.model.keys import KeyWords, keyed
from isophon.app.model.preferences import prefer
from isophon.app.model.state import recent_sessions
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.file_dialog import file_to_open, file_to_save
from isophon.app.views.labels import short
from isophon.core.errors import IsophonError
from isophon.core.reading import path_of
from isophon.core.session import file, layout, marker_export, marker_import
from isophon.core.session.items import Marker
from isophon.core.session.notes import part_of, song_time

_MOST_LISTED = 100  # markers
_MARKER_FILES = "Labels, cue points, MIDI (*.txt *.tsv *.wav *.mid *.midi)"
_MARKER_ENDINGS = (".txt", ".tsv", ".mid", ".midi")  # of files that hold nothing else


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
        self._add("New\t{new}", self.new_asked.emit)
        self._add("Open or add…\t{open}", self.open_asked.emit)
        self.recent = self.addMenu(tr("Recent"))
        self.recent.aboutToShow.connect(self._list_recent)
        self.addSeparator()
        self._add("Save\t{save}", self.save)
        self._add("Save as…\t{save_as}", self.save_as)
        self.addAction(tr("Copy with its recordings…"), self.collect_asked.emit)
        self.addSeparator()
        self._add("History\t{history}", self.history_asked.emit)
        self.addAction(tr("Versions"), self.versions_asked.emit)
        self._add("Marks as a table\t{marks}", self.marks_asked.emit)
        self.markers = self.addMenu(tr("Markers and notes"))
        self.markers.aboutToShow.connect(self._list_markers)
        self.addSeparator()
        self.addAction(tr("Find marks again"), workspace.analysis.look_again)
        self.addAction(tr("Voice cards"), self.cards_asked.emit)
        self.addSeparator()
        self.rest = self.addAction(tr("Remind me to rest my ears"))
        self.rest.setCheckable(True)
        self._add("Preferences…\t{preferences}", self.preferences_asked.emit)
        self._add("Help\t{help}", self.help_asked.emit)
        self.addAction(tr("Guided tour"), self.tour_asked.emit)
        self._add("Keys\t{keys}", self.keys_asked.emit)
        self.addSeparator()
        self._add("Close the session\t{close}", self.close_asked.emit)
        self._add("Quit\t{quit}", self.quit_asked.emit)

    def _add(self, words: str, does: Callable[[], object]) -> None:
        """An action whose words name its key."""
        action = self.addAction("", does)
        KeyWords(action, words, action.setText)

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
            self.recent.addAction(tr(words), partial(self.path_chosen.emit, path))
        if not paths:
            self.recent.addAction(tr("None yet")).setEnabled(False)

    def _list_markers(self) -> None:
        """Each marker with what can be done with it."""
        workspace = self.workspace
        self.markers.clear()
        if not workspace.session.markers:
            words = keyed("None yet: press {marker} to name this place, {note} to write a note at a mark")
            self.markers.addAction(tr(words)).setEnabled(False)
        markers = workspace.session.markers
        if len(markers) > _MOST_LISTED:
            words = f"The first {_MOST_LISTED} of {len(markers)}; {keyed('{next_marker}')} walks them all"
            self.markers.addAction(tr(words)).setEnabled(False)
        self.markers.addAction(tr("Import markers, tempo and bars…"), self._import_markers)
        self.markers.addAction(tr("Export markers…"), self._export_markers).setEnabled(bool(markers))
        bars = self.markers.addAction(tr("Count the ruler in bars"))
        bars.setCheckable(True)
        bars.setEnabled(bool(workspace.session.bars.tempos))
        bars.setChecked(workspace.counted_bars is not None)
        bars.triggered.connect(self._count_bars)
        self.markers.addSeparator()
        for marker in markers[:_MOST_LISTED]:
            whose = f"{short(part.name)}, " if (part := part_of(workspace.session, marker)) else ""
            at = theme.clock(song_time(workspace.session, marker))
            inner = self.markers.addMenu(tr(f"{short(marker.name)}   {whose}{at}".replace("&", "&&")))
            inner.addAction(tr("Go there"), partial(self.marker_chosen.emit, marker))
            inner.addAction(tr("Change the words…" if marker.part else "Rename…"), partial(self._rename, marker))
            inner.addAction(tr("Remove"), partial(self._remove, marker))

    def _import_markers(self) -> None:
        """Markers from a list of labels that is asked for, as one step."""
        path = file_to_open(self, "Import markers, tempo and bars", None, _MARKER_FILES)
        if path is not None:
            self.import_markers(path)

    def import_dropped(self, paths: list[Path]) -> list[Path]:
        """Import what holds markers and no sound; the rest."""
        for path in paths:
            if path.suffix.lower() in _MARKER_ENDINGS:
                self.import_markers(path)
        return [path for path in paths if path.suffix.lower() not in _MARKER_ENDINGS]

    def import_markers(self, path: Path) -> None:
        """Markers, tempo and bars of a file, as one step."""
        before = self.workspace.session
        try:
            after = marker_import.import_file(before, path)
        except IsophonError as error:
            self.workspace.troubled.emit(str(error))
            return
        self.workspace.edit(f"import markers of {path.name}", lambda _session: after)
        count = len(after.markers) - len(before.markers)
        bars = " Tempo and bars were taken too." if after.bars != before.bars else ""
        markers = f"{count} marker{'' if count == 1 else 's'} {'was' if count == 1 else 'were'}"
        self.workspace.notice.emit(f"{markers} imported from {path.name}; what is there already is not doubled.{bars}")

    def _export_markers(self) -> None:
        """All markers and notes to a file: labels, or MIDI with tempo and bars."""
        session, saved_as = self.workspace.session, self.workspace.keeper.saved_as
        start = (saved_as or Path.home() / "markers").with_suffix(marker_export.MIDI_ENDING)
        path = file_to_save(self, "Export markers", start, "MIDI (*.mid);;Labels (*.txt)", "")
        if path is None:
            return
        try:
            count = marker_export.export_markers(session, path)
        except IsophonError as error:
            self.workspace.troubled.emit(str(error))
        else:
            self.workspace.notice.emit(f"{count} markers and notes were written to {path.name}.")

    def _count_bars(self, on: bool) -> None:
        with contextlib.suppress(IsophonError):  # it is not kept then
            prefer(in_bars=on)
        self.workspace.viewport.changed.emit()

    def _remove(self, marker: Marker) -> None:
        self.workspace.edit(f"remove {marker.name}", lambda s: layout.remove_marker(s, marker.id))

    def _rename(self, marker: Marker) -> None:
        asked = ("Note", "What does it say?") if marker.part else ("Marker", "What is it called?")
        name, given = QInputDialog.getText(self, *asked, text=marker.name)
        if given:
            self.workspace.edit(f"rename {marker.name}", lambda s: layout.change_marker(s, marker.id, name=name))
