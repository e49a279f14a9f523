"""Keeping: the history of a session, its file, and the journal that outlives a crash."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app.state import journal_path, make_room
from isophon.core.errors import IsophonError
from isophon.core.session import edits, file
from isophon.core.session.edits import Findings
from isophon.core.session.history import History
from isophon.core.session.journal import Journal
from isophon.core.session.model import Session

_JOURNAL_MS = 500


class Keeper(QObject):
    """Holds the session's history; every change goes through :meth:`edit`. Nothing of it is lost."""

    changed = Signal()
    saved = Signal()
    told = Signal(str)

    def __init__(self, history: History, saved_as: Path | None, continued: Path | None, parent: QObject) -> None:
        """``continued``: the journal whose unsaved work goes on here."""
        super().__init__(parent)
        self.history, self.saved_as, self._continued = history, saved_as, continued
        self.saved_at: float | None = None
        self._saved = history.session if saved_as and not continued else None
        self._journal: Journal | None = None
        self._writing = QTimer(self, singleShot=True, interval=_JOURNAL_MS)
        self._writing.timeout.connect(self.write_journal)

    @property
    def session(self) -> Session:
        """The session in force."""
        return self.history.session

    @property
    def unsaved(self) -> bool:
        """Whether the session differs from its file."""
        return self.session != self._saved

    def edit(self, name: str, change: Callable[[Session], Session], gesture: object = None) -> bool:
        """Make one edit; edits of one gesture are one step of the history. Whether anything changed."""
        try:
            session = change(self.session)
        except IsophonError as error:
            self.told.emit(str(error))
            return False
        if session == self.session:
            return False
        self.history.do(name, session, gesture)
        self._changed()
        return True

    def go(self, step: int) -> None:
        """Go to a step of the history."""
        if step != self.history.at and 0 <= step < len(self.history.steps):
            self.history.go(step)
            self._changed()

    def adopt(self, found: list[tuple[str, Findings]]) -> None:
        """Put what was found in parts into every step of the history; a fact, not a step."""

        def known(session: Session) -> Session:
            for part_id, findings in found:
                session = edits.adopt_findings(session, part_id, findings)
            return session

        if self._journal is not None:
            self.write_journal()
        self.history.amend(known)
        self._saved = self._saved and known(self._saved)
        if self._journal is not None:
            self._try(lambda: [self._journal.found(self.history, *one) for one in found])
        self.changed.emit()

    def save(self, path: Path) -> bool:
        """Write the session to a file; whether that worked."""
        try:
            file.save(self.session, path)
        except IsophonError as error:
            self.told.emit(f"{error}; the session is still open, and kept in the journal")
            return False
        self._writing.stop()
        self.saved_as, self._saved, self.saved_at = path, self.session, time.time()
        self._try(lambda: self._move_journal(path))
        self.saved.emit()
        return True

    def write_journal(self) -> None:
        """Write down the steps made since; at the latest a second after each."""
        self._try(lambda: self._keep().write(self.history))

    def settle(self) -> None:
        """Write down what is not yet, before the window closes."""
        if self._writing.isActive():
            self._writing.stop()
            self.write_journal()

    def _changed(self) -> None:
        self._writing.start()
        self.changed.emit()

    def _move_journal(self, path: Path) -> None:
        journal, place = self._keep(), journal_path(path, "")
        if place != journal.path:
            make_room(place)
        journal.saved(self.history, path, place)

    def _keep(self) -> Journal:
        """The journal of this session, begun at the first step; another one's unsaved work is set aside."""
        if self._journal is None:
            items = self.history.steps[0][1].items or self.session.items
            path = journal_path(self.saved_as, items[0].source.path if items else self.session.name)
            if path != self._continued:
                make_room(path)
            self._journal = Journal(path, self.history, self.saved_as)
            if self._continued and self._continued != path:
                self._continued.unlink(missing_ok=True)
        return self._journal

    def _try(self, work: Callable[[], object]) -> None:
        try:
            work()
        except IsophonError as error:
            self.told.emit(str(error))
