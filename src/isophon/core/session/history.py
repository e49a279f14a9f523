"""Undo and redo: the values before and after, with the names of the steps."""

from __future__ import annotations

from collections.abc import Callable

from isophon.core.session.model import Session


class History:
    """The sessions from the first to the last step, and which one is in force.

    Steps with the same ``gesture`` that follow each other (one drag) count as one.
    """

    def __init__(self, session: Session) -> None:
        self._steps: list[tuple[str, Session]] = [("open", session)]
        self._at = 0
        self._gesture: object = None

    @classmethod
    def restored(cls, steps: list[tuple[str, Session]], at: int) -> History:
        """A history as it was: its named steps, the first being the beginning, and the one in force."""
        history = cls(steps[0][1])
        history._steps, history._at = list(steps), at
        return history

    @property
    def steps(self) -> list[tuple[str, Session]]:
        """All steps with their names, undone ones too; the first is the beginning."""
        return list(self._steps)

    @property
    def at(self) -> int:
        """Which step is in force."""
        return self._at

    @property
    def session(self) -> Session:
        """The session in force."""
        return self._steps[self._at][1]

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
        if session == self.session:
            return
        if gesture is not None and gesture == self._gesture and self._at and self._at + 1 == len(self._steps):
            self._steps[self._at] = (name, session)
        else:
            del self._steps[self._at + 1 :]
            self._steps.append((name, session))
            self._at += 1
        self._gesture = gesture

    def amend(self, change: Callable[[Session], Session]) -> None:
        """Put a fact that is no decision (what was found) into every step; none is added."""
        self._steps = [(name, change(session)) for name, session in self._steps]

    def go(self, step: int) -> Session:
        """The session after a step, by its place in :attr:`steps`, now in force."""
        self._at, self._gesture = min(len(self._steps) - 1, max(0, step)), None
        return self.session

    def undo(self) -> Session:
        """The session before the last step, now in force."""
        return self.go(self._at - 1)

    def redo(self) -> Session:
        """The session after the step last undone, now in force."""
        return self.go(self._at + 1)
