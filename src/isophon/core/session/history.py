"""Undo and redo: what was decided before and after each step, with the names of the steps."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from msgspec.structs import replace

from isophon.core.session.adopting import linked
from isophon.core.session.facts import SessionFacts, decisions_of, merged, session_facts_of
from isophon.core.session.model import Session

Steps = list[tuple[str, Session]]


class Snapshot(NamedTuple):
    """What a history was at a moment."""

    steps: Steps
    at: int
    facts: SessionFacts


class History:
    """The decisions from the first to the last step, and which ones are in force.

    A step is never changed afterwards; what is found, learned, heard or muted is in none (:attr:`facts`). Steps with
    the same ``gesture`` that follow each other (one drag) count as one.
    """

    def __init__(self, session: Session) -> None:
        self._facts, decisions = session_facts_of(session), decisions_of(session)
        self._steps: Steps = [("open", decisions)]
        self._at = 0
        self._gesture: object = None
        self._session = merged(decisions, self._facts, (session, decisions, self._facts))

    @classmethod
    def restored(cls, steps: Steps, at: int, facts: SessionFacts) -> History:
        """A history as it was: its steps with their names and decisions, the one in force, and what is known."""
        history = cls(steps[0][1])
        history._steps, history._at, history._facts = list(steps), at, facts
        history._session = merged(steps[at][1], facts)
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
    def facts(self) -> SessionFacts:
        """What is known of the session, whichever step is in force."""
        return self._facts

    @property
    def decisions(self) -> Session:
        """The decisions in force."""
        return self._steps[self._at][1]

    @property
    def snapshot(self) -> Snapshot:
        """Steps, place and knowledge as they are at this moment."""
        return Snapshot(self.steps, self._at, self._facts)

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
        self._facts, self._session = session_facts_of(session, self._facts), session

    def add_facts(self, change: Callable[[Session, SessionFacts], SessionFacts]) -> None:
        """Take in what is no decision: ``change`` gives the facts after it; no step is added or changed."""
        self._become(self._at, change(self._session, self._facts))

    def rename(self, name: str) -> None:
        """Call the session by another name, in all steps."""
        self._steps = [(step, replace(decisions, name=name)) for step, decisions in self._steps]
        self._session = replace(self._session, name=name)

    def go(self, step: int) -> Session:
        """The session after a step, by its place in :attr:`steps`, now in force."""
        self._gesture = None
        self._become(min(len(self._steps) - 1, max(0, step)), self._facts)
        return self._session

    def undo(self) -> Session:
        """The session before the last step, now in force."""
        return self.go(self._at - 1)

    def redo(self) -> Session:
        """The session after the step last undone, now in force."""
        return self.go(self._at + 1)

    def _become(self, at: int, facts: SessionFacts) -> None:
        like = self._session, self.decisions, self._facts
        self._session = merged(self._steps[at][1], facts, like)
        self._at, self._facts = at, facts


def _linked_where_marks_came_or_went(before: Session, after: Session) -> Session:
    counts = {part.id: len(part.marks) for part in before.parts}
    other = [part.id for part in after.parts if counts.get(part.id) != len(part.marks)]
    return linked(after, other) if other else after
