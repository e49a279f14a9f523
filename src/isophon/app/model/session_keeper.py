"""Keeping: the history of a session, its file, and the journal that outlives a crash."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app.model.journal_writer import JournalWriter
from isophon.app.model.state import claim_journal, journal_path, make_room
from isophon.core.audio.leak import Leak
from isophon.core.errors import IsophonError
from isophon.core.marks import Mark
from isophon.core.session import file
from isophon.core.session.adopting import Beside, Findings
from isophon.core.session.facts import SessionFacts, with_beside, with_findings, with_heard, with_leak
from isophon.core.session.found_file import found_path
from isophon.core.session.history import History, Snapshot
from isophon.core.session.journal import Journal
from isophon.core.session.model import Session

_JOURNAL_MS = 200  # after the first edit that is not written, however many follow
_KEPT = "what was done since is in this window only, and is written as soon as there is room"


class SessionKeeper(QObject):
    """Holds the session's history; every change goes through :meth:`edit`. Nothing of it is lost.

    One window works on one session file: a second gets a copy without a file (:attr:`is_copy`).
    """

    changed = Signal()
    saved = Signal()
    notice = Signal(str)
    troubled = Signal(str)
    _trouble = Signal(str)

    def __init__(self, history: History, saved_as: Path | None, continued: Path | None) -> None:
        """``continued``: the journal whose unsaved work goes on here."""
        super().__init__()
        self.history = history
        items = history.steps[0][1].items or self.session.items
        named = items[0].source.path if items else self.session.name
        self._path, self._lock, self.is_copy = claim_journal(saved_as, continued, named)
        self.saved_as = None if self.is_copy else saved_as
        self._continued = None if self.is_copy else continued
        self.saved_at: float | None = None
        self._saved = self._to_save if self.saved_as and not continued else None
        self._stamp = _stamp(self.saved_as)
        self._warned: object = None
        self._begun = False
        self._opened = Snapshot(history.steps[:1], 0, history.facts)  # what the journal begins with
        self._writer = JournalWriter(self._begin, self._trouble.emit)
        self._trouble.connect(self._tell_trouble)
        self._writing = QTimer(self, singleShot=True, interval=_JOURNAL_MS)
        self._writing.timeout.connect(self.write_journal)

    @property
    def session(self) -> Session:
        """The session in force."""
        return self.history.session

    @property
    def unsaved(self) -> bool:
        """Whether the session differs from its file."""
        return self._to_save != self._saved

    @property
    def _to_save(self) -> tuple:
        """What asks to be saved: the decisions, what is muted, and what was learned of leaks."""
        facts = self.history.facts
        return self.history.decisions, facts.muted, [part.leak for part in self.session.parts]

    @property
    def at_risk(self) -> bool:
        """Whether steps are neither in the file nor in the journal, since that cannot be written."""
        return self._writer.failing and self.unsaved

    def edit(self, name: str, change: Callable[[Session], Session], gesture: object = None) -> bool:
        """Make one edit; edits of one gesture are one step of the history. Whether anything changed."""
        try:
            session = change(self.session)
        except IsophonError as error:
            self.troubled.emit(str(error))
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
        """Take in what was found in parts, by their names; no step of the history."""
        self._add_facts(lambda session, facts: with_findings(session, facts, found))

    def adopt_beside(self, found: list[tuple[str, Beside]]) -> None:
        """The same of what was found in parts beside the one that they follow."""
        self._add_facts(lambda session, facts: with_beside(session, facts, found))

    def adopt_leak(self, part_id: str, leak: Leak, hits: tuple[Mark, ...]) -> None:
        """Take in what was learned of a part's leak; no step of the history, but something to be saved."""
        self._add_facts(lambda session, facts: with_leak(session, facts, part_id, leak, hits), begins=True)

    def mute(self, item_id: str, muted: bool) -> None:
        """Mute a part or reference, or no longer; undo is for what is done to the voice."""
        there = any(item.id == item_id for item in self.session.items)
        names = {item_id} if there else set()
        self._add_facts(lambda _, facts: replace(facts, muted=facts.muted | names if muted else facts.muted - names),
                        begins=True)  # fmt: skip

    def hear(self, names: set[str]) -> None:
        """Note marks as heard; no step of the history, and nothing that asks to be saved."""
        if names.difference(self.session.heard):
            saved_as = self.saved_as
            if saved_as and not self.unsaved:  # a journal that begins now says so
                self._note(lambda journal, snapshot: journal.saved(snapshot, saved_as, journal.path))
            self._add_facts(lambda session, facts: with_heard(session, facts, names), begins=True)

    def _add_facts(self, change: Callable[[Session, SessionFacts], SessionFacts], begins: bool = False) -> None:
        """``begins``: whether a journal begins with it; what is found can be found again."""
        self.history.add_facts(change)
        if self._begun or begins:
            self.write_journal()
        self.changed.emit()

    def save(self, path: Path) -> bool:
        """Write the session to a file; whether that worked."""
        if path == self.saved_as and self._changed_outside(path):
            return False
        place, lock = journal_path(path, ""), self._lock
        if path != self.saved_as:
            place, lock, taken = claim_journal(path, None, "")
            if taken:
                lock.release()
                self.troubled.emit(f"{path.name}: is open in another window; save under another name")
                return False
        history = self._renamed(path)
        try:
            file.save(history.session, path)
        except IsophonError as error:
            if lock is not self._lock:
                lock.release()
            self.troubled.emit(f"{error}; the session is still open, and kept in the journal")
            return False
        self._writing.stop()
        self.history = history
        before, self._lock = self._lock, lock
        self.saved_as, self._saved, self.saved_at, self.is_copy = path, self._to_save, time.time(), False
        self._stamp = _stamp(path)
        self._note(lambda journal, snapshot: self._move(journal, snapshot, path, place))
        self._writer.settle()
        if before is not lock:
            before.release()
        self.changed.emit()
        self.saved.emit()
        return True

    def write_journal(self) -> None:
        """Write down the steps made since; at the latest half a second after each."""
        self._note(lambda journal, snapshot: journal.write(snapshot))

    def settle(self) -> None:
        """Write down what is not yet, before the window closes."""
        if self._writing.isActive():
            self._writing.stop()
            self.write_journal()
        self._writer.settle()

    def close(self) -> None:
        """Write down what is not yet, and let others have the session."""
        self.settle()
        self._writer.close()
        self._lock.release()

    def _changed(self) -> None:
        if not self._writing.isActive():
            self._writing.start()
        self.changed.emit()

    def _note(self, work: Callable[[Journal, Snapshot], object]) -> None:
        snapshot = self.history.snapshot
        self._begun = True
        self._writer.give(lambda journal: work(journal, snapshot))

    def _begin(self) -> Journal:
        """The journal of this session, begun at the first step; another one's unsaved work is set aside."""
        if self._path != self._continued:
            make_room(self._path)
        journal = Journal(self._path, self._opened, self.saved_as)
        if self._continued and self._continued != self._path:
            self._continued.unlink(missing_ok=True)
            found_path(self._continued).unlink(missing_ok=True)
        return journal

    @staticmethod
    def _move(journal: Journal, snapshot: Snapshot, path: Path, place: Path) -> None:
        if place != journal.path:
            make_room(place)
        journal.saved(snapshot, path, place)

    def _renamed(self, path: Path) -> History:
        """The history under the name of a new file; the name is that of the file, in every step."""
        name = path.name.removesuffix(file.ENDING)[:300]
        if path == self.saved_as or name == self.session.name:
            return self.history
        renamed = History.restored(*self.history.snapshot)
        renamed.rename(name)
        return renamed

    def is_as_left(self) -> bool:
        """Whether the session's file is what was loaded or saved here."""
        return _stamp(self.saved_as) == self._stamp

    def _changed_outside(self, path: Path) -> bool:
        """Whether the file is not what was loaded or saved here; said once, then it may be written over."""
        now = _stamp(path)
        if now is None or now in (self._stamp, self._warned):
            return False
        self._warned = now
        self.troubled.emit(f"{path.name} was changed by something else since it was opened here; nothing was written. "
                       "Save once more to write over it, or save under another name.")  # fmt: skip
        return True

    def _tell_trouble(self, why: str) -> None:
        if why:
            self.troubled.emit(f"{why}; {_KEPT}")
        else:
            self.notice.emit("The journal can be written again; nothing was lost.")
        self.saved.emit()


def _stamp(path: Path | None) -> tuple[int, int, int] | None:
    """What tells whether a file is still the same."""
    try:
        status = path.stat() if path else None
    except (OSError, ValueError):
        return None
    return status and (status.st_ino, status.st_size, status.st_mtime_ns)
