"""Journals of the first version, in which every step is a whole session and what was found is put into all of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import msgspec

from isophon.core.audio.leak import Leak
from isophon.core.marks import Mark
from isophon.core.ranges import PlayedMark
from isophon.core.session.adopting import Beside, Findings, Hits, adopt_beside, adopt_findings, adopt_leak
from isophon.core.session.edits import hear
from isophon.core.session.facts import SessionFacts, decisions_of, session_facts_of
from isophon.core.session.history import History
from isophon.core.session.layout import mute
from isophon.core.session.model import Session

Whole = Callable[[Any], Session]
Apply = Callable[[Any, Any], Any]
_NO_STEP = (msgspec.MsgspecError, KeyError, TypeError, AttributeError, IndexError, ValueError, RecursionError)


class OldJournal:
    """What such a journal tells, line by line; ``session_of`` and ``apply`` are those of :mod:`.journal`."""

    def __init__(self, first: Any, session_of: Whole, apply: Apply) -> None:
        self._session_of, self._apply = session_of, apply
        self._values, self._steps = [first], [("open", session_of(first))]
        self._at, self._saved = 0, self._steps[0][1]
        self.saved_as: str | None = None
        self.unsaved = False

    def read(self, lines: Sequence[bytes]) -> int:
        """Read lines as far as they can be; how many that were."""
        for count, raw in enumerate(lines):
            try:
                self._read(msgspec.json.decode(raw))
            except _NO_STEP:
                return count
        return len(lines)

    def _read(self, line: dict[str, Any]) -> None:
        if "step" in line:
            value = self._apply(self._values[self._at], line["change"])
            session = self._session_of(value)
            del self._values[self._at + 1 :], self._steps[self._at + 1 :]
            self._values.append(value)
            self._steps.append((str(line["step"])[:300], session))
            self._at, self.unsaved = self._at + 1, True
        elif "go" in line:
            if not isinstance(line["go"], int) or not 0 <= line["go"] < len(self._steps):
                raise ValueError(f"{line['go']} is no step")
            self._at, self.unsaved = line["go"], True
        elif "saved" in line:
            self.saved_as, self._saved, self.unsaved = str(line["saved"]), self._steps[self._at][1], False
        else:
            self._amend(_change_of(line))
            self.unsaved = self.unsaved or "leak" in line or "muted" in line

    def _amend(self, change: Callable[[Session], Session]) -> None:
        values = [msgspec.to_builtins(change(session)) for _, session in self._steps]
        sessions = [self._session_of(value) for value in values]
        self._values = values
        self._steps = [(name, session) for (name, _), session in zip(self._steps, sessions, strict=True)]

    def result(self) -> tuple[History, Session]:
        """The history as it is kept now, and the decisions as they were last saved."""
        facts = SessionFacts()
        for _, session in (*self._steps, self._steps[self._at]):
            facts = session_facts_of(session, facts)
        steps = [(name, decisions_of(session)) for name, session in self._steps]
        return History.restored(steps, self._at, facts), decisions_of(self._saved)


def _change_of(line: dict[str, Any]) -> Callable[[Session], Session]:
    """What a line puts into every step; nothing for a line of another kind."""
    if "found" in line:
        findings = msgspec.convert(line["findings"], Findings)
        return lambda session: adopt_findings(session, line["found"], findings)
    if "beside" in line:
        beside = msgspec.convert(line["findings"], Beside)
        return lambda session: adopt_beside(session, line["beside"], beside)
    if "leak" in line:
        leak = msgspec.convert(line["facts"], Leak)
        hits: tuple[Mark, ...] = msgspec.convert(line["hits"], Hits)
        return lambda session: adopt_leak(session, line["leak"], leak, hits)
    if "muted" in line:
        muted = msgspec.convert(line["to"], bool)
        return lambda session: mute(session, line["muted"], muted)
    if "heard" in line:
        names = msgspec.convert(line["heard"], list[PlayedMark])
        return lambda session: hear(session, names)
    return lambda session: session
