"""A line that proposes a setting once what was decided by hand goes one way."""

from __future__ import annotations

from collections.abc import Callable

from isophon.app.model.keys import key_book, shown_key
from isophon.app.model.passes import Pass
from isophon.app.model.workspace import Workspace
from isophon.core.session import edits
from isophon.core.session.model import Part
from isophon.core.session.taste import Proposal, proposed


class TasteWatch:
    """Looks at the decisions of the selected part after every step; ``tell(words)`` shows one line.

    Nothing is changed by itself, and what was proposed once is not proposed again.
    """

    def __init__(self, workspace: Workspace, tell: Callable[[str], None]) -> None:
        self._workspace, self._tell = workspace, tell
        self._proposed: set[tuple[str, str, str]] = set()
        self._now: tuple[str, Pass, Proposal] | None = None
        self._seen: tuple[object, ...] | None = None
        workspace.session_changed.connect(self._look)

    def _look(self) -> None:
        part, which = self._workspace.part, self._workspace.pass_
        decided = tuple((mark.id, mark.hand) for mark in part.of_kind(which.kind) if mark.hand.decided)
        seen = (part.id, which, decided, part.settings(which.kind))
        if seen == self._seen:
            return
        self._seen, self._now = seen, None
        found = proposed(part, which.kind)
        if found is None:
            return
        self._now = part.id, which, found
        key = (part.id, found.kind, " ".join(found.values))
        if key not in self._proposed:
            self._proposed.add(key)
            self._tell(_in_words(part, which, found))

    def accept(self) -> None:
        """Take over what is proposed, as one step."""
        if self._now is None:
            self._tell("No setting is proposed: it takes five decisions of one kind that go one way.")
            return
        part_id, which, found = self._now
        self._now = None
        self._workspace.edit(f"{_said(which, found)}, as decided by hand",
                             lambda s: edits.accept_settings(s, part_id, found.kind, found.values))  # fmt: skip
        self._tell(f"{_said(which, found)}. To keep it for other songs: More, Voice cards, Save what was accepted.")


def _in_words(part: Part, which: Pass, found: Proposal) -> str:
    others = f"{found.others} other {which.words.many if found.others != 1 else which.words.one}"
    return (f"Your {found.decided} decisions in {part.name} go one way: {_said(which, found)} would do the same, and "
            f"change {others} ({shown_key(key_book().key('accept_proposal'))}: take it over).")  # fmt: skip


def _said(which: Pass, found: Proposal) -> str:
    return ", ".join(f"{which.words_of(found.kind, name)} {which.said(found.kind, name, value)}"
                     for name, value in found.values.items())  # fmt: skip
