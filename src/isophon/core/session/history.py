"""Undo and redo: what was decided before and after each step, with the names of the steps."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from msgspec.structs import replace

from isophon.core.session.edits import linked
from isophon.core.session.known import Known, decisions_of, known_of, with_known
from isophon.core.session.model import Session

Steps = list[tuple[str, Session]]


class Moment(NamedTuple):
    """What a history was at a moment."""

    steps: Steps
    at: int
    known: Known


class History:
    """The decisions from the first to the last step, and which ones are in force.

    A step is never changed afterwards; what is found, learned, heard or muted is in none (:attr:`known`). Steps with
    the same ``gesture`` that follow each other (one drag) count as one.
    """

    def __init__(self, session: Session) -> None:
        self._known, decisions = known_of(session), decisions_of(session)
        self._steps: Steps = [("open", decisions)]
        self._at = 0
        self._gesture: object = None
        self._session = with_known(decisions, self._known, (session, decisions, self._known))

    @classmethod
    def restored(cls, steps: Steps, at: int, known: Known) -> History:
        """A history as it was: its steps with their names and decisions, the one in force, and what is known."""
        history = cls(steps[0][1])
        history._steps, history._at, history._known = list(steps), at, known
        history._session = with_known(steps[at][1], known)
        return history

    @property
    def steps(self) -> Steps:
        """All steps with their names and decisions, undone ones too; the first is the beginning."""
        return list(self._steps)

    @property
    def at(self) -> int:
        """Which step is in force."""
        return self._at

    @property
    def known(self) -> Known:
        """What is known of the session, whichever step is in force."""
        return self._known

    @property
    def decisions(self) -> Session:
        """The decisions in force."""
        return self._steps[self._at][1]

    @property
    def now(self) -> Moment:
        """Steps, place and knowledge as they are at this moment."""
        return Moment(self.steps, self._at, self._known)

    @property
    def session(self) -> Session:
        """The session in force."""
        return self._session

    @property
    def undo_name(self) -> str | None:
        """The name of the step that undo takes back, None at the first."""
        return self._steps[self._at][0] if self._at else None

    @property
    def redo_name(self) -> str | None:
        """The name of the step that redo does again, None at the last."""
        return self._steps[self._at + 1][0] if self._at + 1 < len(self._steps) else None

    def do(self, name: str, session: Session, gesture: object = None) -> None:
        """A new step; what had been undone is gone. A step that changes nothing is none."""
        if session == self._session:
            return
        session = _linked_where_marks_came_or_went(self._session, session)
        decisions = decisions_of(session, (self._session, self.decisions))
        if gesture is not None and gesture == self._gesture and self._at and self._at + 1 == len(self._steps):
            self._steps[self._at] = (name, decisions)
        else:
            del self._steps[self._at + 1 :]
            self._steps.append((name, decisions))
            self._at += 1
        self._gesture = gesture
        self._known, self._session = known_of(session, self._known), session

    def learn(self, change: Callable[[Session, Known], Known]) -> None:
        """Take in what is no decision: ``change`` gives what is known after it; no step is added or changed."""
        self._become(self._at, change(self._session, self._known))

    def rename(self, name: str) -> None:
        """Call the session by another name, in all steps."""
        self._steps = [(step, replace(decisions, name=name)) for step, decisions in self._steps]
        self._session = replace(self._session, name=name)

    def go(self, step: int) -> Session:
        """The session after a step, by its place in :attr:`steps`, now in force."""
        self._gesture = None
        self._become(min(len(self._steps) - 1, max(0, step)), self._known)
        return self._session

    def undo(self) -> Session:
        """The session before the last step, now in force."""
        return self.go(self._at - 1)

    def redo(self) -> Session:
        """The session after the step last undone, now in force."""
        return self.go(self._at + 1)

    def _become(self, at: int, known: Known) -> None:
        like = self._session, self.decisions, self._known
        self._session = with_known(self._steps[at][1], known, like)
        self._at, self._known = at, known


def _linked_where_marks_came_or_went(before: Session, after: Session) -> Session:
    counts = {part.id: len(part.marks) for part in before.parts}
    other = [part.id for part in after.parts if counts.get(part.id) != len(part.marks)]
    return linked(after, other) if other else after
