"""What lies on the desk: the session with its history, the take in hand, the marks in hand, the view.

The views read from here and call its methods; every change of the session is an
edit that goes through :meth:`Desk.edit`.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app.jobs import Job
from isophon.app.state import journal_path, make_room
from isophon.core.errors import IsophonError
from isophon.core.finding import find_marks
from isophon.core.marks import Mark
from isophon.core.passes.esses.find import measure
from isophon.core.passes.esses.settings import ceiling_over_voice
from isophon.core.session import edits, file
from isophon.core.session.history import History
from isophon.core.session.journal import Journal
from isophon.core.session.model import Part, Session
from isophon.core.take import Take

_JOURNAL_MS = 500
_SHORTEST_VIEW_S = 0.02


class Desk(QObject):
    """The model of the window."""

    session_changed = Signal()
    hand_changed = Signal()
    view_changed = Signal()
    saved_changed = Signal()
    told = Signal(str)

    def __init__(self, history: History, saved_as: Path | None, take: Take, continued: Path | None = None) -> None:
        """``continued``: the journal whose unsaved work goes on here."""
        super().__init__()
        self.continued = continued
        self.saved_as = saved_as
        self.take = take
        self.in_hand: tuple[str, ...] = ()
        self.selection: tuple[float, float] | None = None
        self.view = (0.0, take.recording.duration)
        self.saved_at: float | None = None
        part, found = history.session.parts[0], take.survey
        if not part.found:
            looked = edits.adopt_findings(history.session, part.id, take.marks, found.voice_lufs, found.floor_dbfs)
            history = History(looked)
        self.history = history
        self._saved = history.session if saved_as and not continued else None
        self._journal: Journal | None = None
        self._looking: Job | None = None
        self._writing = QTimer(self, singleShot=True, interval=_JOURNAL_MS)
        self._writing.timeout.connect(self.write_journal)

    # the session

    @property
    def session(self) -> Session:
        """The session in force."""
        return self.history.session

    @property
    def part(self) -> Part:
        """The part in hand."""
        return self.session.parts[0]

    @property
    def ceiling(self) -> float:
        """The ceiling in force for the part in hand, dB over the voice."""
        return ceiling_over_voice(self.part.ess, self.part.usual)

    @property
    def unsaved(self) -> bool:
        """Whether the session differs from its file."""
        return self.session != self._saved

    def edit(self, name: str, change: Callable[[Session], Session], gesture: object = None) -> None:
        """Make one edit; edits of one gesture are one step of the history."""
        try:
            session = change(self.session)
        except IsophonError as error:
            self.told.emit(str(error))
            return
        if session != self.session:
            self.history.do(name, session, gesture)
            self._changed()

    def undo(self) -> None:
        """Take the last step back."""
        self.history.undo()
        self._changed()

    def redo(self) -> None:
        """Do the step last taken back again."""
        self.history.redo()
        self._changed()

    def set_setting(self, name: str, value: float, gesture: object = None) -> None:
        """Set one setting of the pass for the part in hand."""
        self.edit(f"set {name}", lambda s: edits.set_setting(s, self.part.id, name, round(value, 2)), gesture)

    def change_more(self, step_db: float) -> None:
        """A little more (negative) or less change of the marks in hand, by hand."""
        for mark in self.marks_in_hand():
            change = self.part.change(mark) + step_db
            self.set_change([mark.id], change, ("step", self.in_hand))

    def set_change(self, ids: list[str], change_db: float, gesture: object = None) -> None:
        """Set the change of marks by hand."""
        self.edit("change by hand", lambda s: edits.set_change(s, self.part.id, ids, change_db), gesture)

    def toggle_leave(self) -> None:
        """Leave the marks in hand as sung, or no longer."""
        marks = self.marks_in_hand()
        if marks:
            on = not all(m.hand.leave for m in marks)
            self.edit("leave" if on else "leave no longer", lambda s: edits.leave(s, self.part.id, self.in_hand, on))

    def forget_hand(self) -> None:
        """Give the marks in hand back to the settings."""
        self.edit("back to the ceiling", lambda s: edits.forget_hand(s, self.part.id, self.in_hand))

    def draw_mark(self) -> None:
        """Make an ess of the selected time."""
        if self.part.voice_lufs is None:
            self.told.emit("No voice was found here, so an ess cannot be measured against it.")
            return
        if self.selection is None:
            self.told.emit("Drag over the ruler to select the time of an ess first.")
            return
        start, end = (round(t, 4) for t in self.selection)
        measured = measure(self.take.survey, start, end)
        session, name = edits.draw_mark(self.session, self.part.id, start, end, measured)
        self.selection = None
        self.edit("draw an ess", lambda s: session)
        self.take_in_hand([name])

    def look_again(self) -> None:
        """Find the marks once more, in the background; what was decided by hand stays."""
        recording, found = self.take.recording, self.take.survey
        self._looking = Job(lambda progress: find_marks(recording, found))
        self._looking.done.connect(self._adopt)
        self._looking.failed.connect(self.told)
        self._looking.start()

    def _adopt(self, marks: tuple[Mark, ...]) -> None:
        part, found = self.part, self.take.survey
        self.edit(
            "look again",
            lambda s: edits.adopt_findings(s, part.id, marks, found.voice_lufs, found.floor_dbfs),
        )
        self.told.emit(f"Looked again: {len(self.part.marks)} esses; what was decided by hand stayed.")

    # what is in hand and in view

    def marks_in_hand(self) -> list[Mark]:
        """The marks in hand that are still there."""
        return [m for name in self.in_hand if (m := self.part.mark(name))]

    @property
    def mark(self) -> Mark | None:
        """The mark in hand: the first of those."""
        marks = self.marks_in_hand()
        return marks[0] if marks else None

    def take_in_hand(self, ids: list[str], show: bool = True) -> None:
        """Take marks in hand; the view moves to the first if it is not seen whole."""
        self.in_hand = tuple(ids)
        self.selection = None
        mark = self.mark
        if show and mark:
            start, end = mark.span
            first, last = self.view
            if start < first or end > last:
                half = (last - first) / 2
                self.set_view((start + end) / 2 - half, (start + end) / 2 + half)
        self.hand_changed.emit()

    def walk(self, step: int, over_only: bool = False) -> None:
        """Take the next or previous mark in hand, of all or of those that change."""
        marks = [m for m in self.part.marks if not over_only or self.part.change(m) < 0 or m.standout_db > self.ceiling]
        if not marks:
            return
        now = self.mark
        if now is None:
            first = self.view[0]
            place = next((i for i, m in enumerate(marks) if m.span[0] >= first), 0)
        else:
            later = [i for i, m in enumerate(marks) if m.start > now.start]
            earlier = [i for i, m in enumerate(marks) if m.start < now.start]
            place = (later[0] if later else 0) if step > 0 else (earlier[-1] if earlier else len(marks) - 1)
        self.take_in_hand([marks[place].id])

    def walk_phrases(self, step: int, heard_at: float) -> None:
        """Select the next or previous phrase from the selection, else from the second that is heard; it loops."""
        if not self.take.phrases:
            return
        here = self.selection[0] if self.selection else heard_at
        starts = [start for start, _ in self.take.phrases]
        later = [i for i, start in enumerate(starts) if start > here + 1e-3]
        earlier = [i for i, start in enumerate(starts) if start < here - 1e-3]
        index = (later[0] if later else 0) if step > 0 else (earlier[-1] if earlier else len(starts) - 1)
        start, end = self.take.phrases[index]
        first, last = self.view
        if start < first or end > last:
            size = max(last - first, 1.1 * (end - start))
            self.set_view((start + end - size) / 2, (start + end + size) / 2)
        self.select((start, end))

    def set_view(self, start: float, end: float) -> None:
        """Show these seconds, held within the take."""
        whole = self.take.recording.duration
        size = min(whole, max(_SHORTEST_VIEW_S, end - start))
        start = min(max(0.0, start), whole - size)
        if (start, start + size) != self.view:
            self.view = (start, start + size)
            self.view_changed.emit()

    def select(self, selection: tuple[float, float] | None) -> None:
        """Select a time, or none."""
        self.selection = selection
        self.hand_changed.emit()

    # saving

    def save(self, path: Path) -> bool:
        """Write the session to a file; whether that worked."""
        try:
            file.save(self.session, path)
        except IsophonError as error:
            self.told.emit(f"{error}; the session is still open, and kept in the journal")
            return False
        self._writing.stop()
        self.saved_as, self._saved, self.saved_at = path, self.session, time.time()
        try:
            journal, place = self._keep(), journal_path(path, "")
            if place != journal.path:
                make_room(place)
            journal.saved(self.history, path, place)
        except IsophonError as error:
            self.told.emit(str(error))
        self.saved_changed.emit()
        return True

    def write_journal(self) -> None:
        """Write down the steps made since; at the latest a second after each."""
        try:
            self._keep().write(self.history)
        except IsophonError as error:
            self.told.emit(str(error))

    def settle(self) -> None:
        """Write down what is not yet, before the window closes."""
        if self._writing.isActive():
            self._writing.stop()
            self.write_journal()

    def _keep(self) -> Journal:
        """The journal of this session, begun at the first step; another one's unsaved work is set aside."""
        if self._journal is None:
            path = journal_path(self.saved_as, self.part.source.path)
            if path != self.continued:
                make_room(path)
            self._journal = Journal(path, self.history, self.saved_as)
            if self.continued and self.continued != path:
                self.continued.unlink(missing_ok=True)
        return self._journal

    def _changed(self) -> None:
        self._writing.start()
        self.session_changed.emit()
