"""Named places in the song and notes at marks: writing one and going from one to the next."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QInputDialog, QWidget

from isophon.app import theme
from isophon.app.model.hearing import Hearing
from isophon.app.model.keys import keyed
from isophon.app.model.workspace import Workspace
from isophon.app.sheets import PASSES
from isophon.app.translation import tr
from isophon.core.session import notes
from isophon.core.session.items import Marker


class Markers(QObject):
    """What a person does with the markers of the song that is open; ``notice(words)`` says what hinders."""

    notice = Signal(str)

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
        name, given = QInputDialog.getText(self._page, tr("Marker"), tr(f"A name for {theme.clock(max(0.0, at))}"))
        if given:
            self._workspace.mark_place(at, name)

    def write_note(self) -> None:
        """Ask for a note at the selected mark; an empty one deletes what is there."""
        workspace, mark = self._workspace, self._workspace.mark
        if mark is None:
            self.notice.emit(keyed("Select a mark to write a note at it, or press {marker} to name this place."))
            return
        part_id = workspace.part.id
        old = notes.note_at(workspace.session, part_id, mark.id)
        question = f"A note at {theme.clock(mark.span[0] + workspace.offset)}; empty deletes it"
        words, given = QInputDialog.getText(self._page, tr("Note"), question, text=old.name if old else "")
        if given and (words.strip() or old):
            step = "note" if words.strip() else "delete a note"
            workspace.edit(step, lambda s: notes.set_note(s, part_id, mark.id, words))

    def walk(self, step: int) -> None:
        """Go to the next or previous marker of the song or note of the selected part."""
        session, part_id = self._workspace.session, self._workspace.part.id
        shown = [m for m in session.markers if m.part in ("", part_id)]
        if not shown:
            self.notice.emit("There is no marker yet. Press K to name this place, Shift+K to write a note at a mark.")
            return
        here = self._here()
        at = sorted(((notes.song_time(session, m), m) for m in shown), key=lambda row: row[0])
        later, earlier = [m for t, m in at if t > here + 0.01], [m for t, m in at if t < here - 0.3]
        self.go_to((later or [at[0][1]])[0] if step > 0 else (earlier or [at[-1][1]])[-1])

    def go_to(self, marker: Marker) -> None:
        """Go to a marker; to the mark of a note, in its part and its pass."""
        workspace = self._workspace
        song_s = notes.song_time(workspace.session, marker)
        self._take_part(marker)
        self._show(song_s)
        mark = workspace.part.mark(marker.mark) if marker.part else None
        if mark is not None:
            workspace.open_pass(next(which for which in PASSES if which.kind == mark.kind))
            workspace.select_marks([mark.id], show=False)

    def _take_part(self, marker: Marker) -> None:
        part = notes.part_of(self._workspace.session, marker)
        if part is not None and part is not self._workspace.part:
            self._workspace.select_part(part.id)

    def _show(self, song_s: float) -> None:
        at = song_s - self._workspace.offset
        self._workspace.select_time(None)
        self._hearing.seek(at)
        first, last = self._workspace.viewport.span
        if not first <= at <= last:
            self._workspace.viewport.glide_to(at - 0.2 * (last - first), at + 0.8 * (last - first))
