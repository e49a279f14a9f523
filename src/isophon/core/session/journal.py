"""The journal: every step of a session's history, written down as it is made.

A file of JSON lines that only grows. The first line holds the first decisions;
each further one is a step (which decisions changed), a move through the history (undo,
redo), what is muted, what was heard, that something was learned, or that the session was saved. Killed at any
moment, all complete lines count; a half-written last line does not. What was found and learned lies beside it
(:mod:`.found_file`).
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import msgspec
from msgspec.structs import replace

from isophon.core.errors import InputError
from isophon.core.marks import Mark
from isophon.core.ranges import MOST_HEARD, MOST_PARTS, Name, PlayedMark
from isophon.core.reading import path_of, read_bytes, spelled
from isophon.core.session.checks import flaw_of
from isophon.core.session.facts import SessionFacts
from isophon.core.session.file import ENDING
from isophon.core.session.found_file import FoundFile, found_path, read_found
from isophon.core.session.history import History, Steps
from isophon.core.session.lines import LineFile
from isophon.core.session.model import Session
from isophon.core.session.old_journal import OldJournal

VERSION = 2  # of the journal
_WHOLE, _BY_NAME = "=", "|"
_MOST_BYTES = 512 << 20  # of one
_NO_STEP = (msgspec.MsgspecError, KeyError, TypeError, AttributeError, IndexError, ValueError, RecursionError)


class HistoryState(Protocol):
    """What a journal is written from: a history, or what it was at a moment."""

    @property
    def steps(self) -> Steps:
        """All steps with their names and decisions."""

    @property
    def at(self) -> int:
        """Which one is in force."""

    @property
    def facts(self) -> SessionFacts:
        """What is known beside them."""


@dataclass(frozen=True)
class Replay:
    """What a journal tells.

    ``saved_as``: the file it belongs to, '' for none yet; ``saved``: the decisions
    as they were last saved there; ``unsaved``: whether steps came after that;
    ``lost``: how many lines at its end could not be read.
    """

    history: History
    saved_as: str
    saved: Session
    unsaved: bool
    lost: int = 0


class Journal:
    """Writes a history down. :meth:`write` is called after edits and adds what is new.

    A step counts as written once it is on the disk. Where writing failed, what was begun is cut off again and
    the next call writes all that is missing, the whole journal anew where that is needed.
    """

    def __init__(self, path: Path, history: HistoryState, saved_as: Path | None) -> None:
        """Begin a journal with all steps of a history; OutputError if it cannot be written."""
        self._file, self._findings_file = LineFile(path), FoundFile(found_path(path))
        self._saved_as = saved_as
        self._saved_at: int | None = None
        self._steps: Steps = []
        self._at, self._facts, self._saved_facts = 0, SessionFacts(), history.facts
        self._findings_file.write(history.facts.by_part)
        self._begin(history)

    @property
    def path(self) -> Path:
        """Where it is written."""
        return self._file.path

    def write(self, history: HistoryState) -> None:
        """Add what happened since the last time; OutputError if it cannot be written."""
        self._findings_file.write(history.facts.by_part)
        steps = history.steps
        common = 0
        for (_, one), (_, other) in zip(self._steps, steps, strict=False):
            if one is not other:
                break
            common += 1
        if common == 0 or not self.path.exists():
            self._begin(history)
            return
        lines, at, saved_at = [], self._at, self._saved_at
        if common < max(len(self._steps), len(steps)):
            if at != common - 1:
                lines.append({"go": common - 1})
            lines += [_step(steps, i) for i in range(common, len(steps))]
            at = len(steps) - 1
            saved_at = saved_at if saved_at is not None and saved_at < common else None
        if history.at != at:
            lines.append({"go": history.at})
        lines += _fact_lines(self._facts, history.facts)
        if lines:
            self._file.append(lines)
        self._steps, self._at, self._facts, self._saved_at = steps, history.at, history.facts, saved_at

    def saved(self, history: HistoryState, saved_as: Path, path: Path) -> None:
        """Note that the session was saved; the journal goes on at ``path``, which belongs to the file."""
        self._saved_as = saved_as
        self.write(history)
        self._file.append([{"saved": spelled(saved_as)}])
        self._saved_at, self._saved_facts = history.at, history.facts
        self._file.move(path)
        self._findings_file.move(found_path(path))

    def _begin(self, history: HistoryState) -> None:
        """Write the whole journal anew."""
        steps, saved_at = history.steps, self._saved_at
        head = {
            "isophon_journal": VERSION, "saved_as": spelled(self._saved_as) if self._saved_as else "",
            "first": msgspec.to_builtins(steps[0][1]), "muted": sorted(self._saved_facts.muted),
            "heard": list(self._saved_facts.heard),
        }  # fmt: skip
        lines: list[dict[str, Any]] = [_step(steps, i) for i in range(1, len(steps))]
        at = len(steps) - 1
        if saved_at is not None and saved_at < len(steps):
            lines += [{"go": saved_at}] if saved_at != at else []
            lines.append({"saved": spelled(self._saved_as or Path())})
            at = saved_at
        lines += [{"go": history.at}] if history.at != at else []
        self._file.begin([head, *lines, *_fact_lines(self._saved_facts, history.facts)])
        self._steps, self._at, self._facts = steps, history.at, history.facts


def _step(steps: Steps, i: int) -> dict[str, Any]:
    return {"step": steps[i][0], "change": difference(steps[i - 1][1], steps[i][1])}


def _fact_lines(before: SessionFacts, after: SessionFacts) -> list[dict[str, Any]]:
    """What became known beside the steps, a line each; of what was learned only that there is something new."""
    lines: list[dict[str, Any]] = []
    if after.muted != before.muted:
        lines.append({"muted": sorted(after.muted)})
    if after.heard != before.heard:
        lines.append({"heard": sorted(set(after.heard).difference(before.heard))})
    leaks = {key: facts.leak for key, facts in before.by_part.items()}
    learned = [key[0] for key, facts in after.by_part.items() if facts.leak != leaks.get(key)]
    return [*lines, {"learned": learned}] if learned else lines


def replay(path: Path) -> Replay:
    """Read a journal as far as it is complete; InputError if not even its beginning is."""
    data = read_bytes(path, _MOST_BYTES)
    lines = data.split(b"\n")
    try:
        head = msgspec.json.decode(lines[0])
        if head["isophon_journal"] > VERSION:
            raise InputError(f"{path.name}: was written by a newer Isophon; update this one")
        value, saved_as = head["first"], str(head.get("saved_as", ""))
        rest = [line for line in lines[1:] if line]
        if head["isophon_journal"] < VERSION:
            return _old(OldJournal(value, _whole, apply), rest, saved_as, data.endswith(b"\n"))
        steps = [("open", _whole(value))]
        muted, heard = (msgspec.convert(head.get(name, []), list[PlayedMark]) for name in ("muted", "heard"))
    except (msgspec.MsgspecError, KeyError, TypeError, AttributeError, ValueError, RecursionError) as error:
        raise InputError(f"{path.name}: is damaged at its beginning ({error}); it was left where it is") from error
    facts = SessionFacts(read_found(found_path(path)), frozenset(muted[: 2 * MOST_PARTS]), tuple(heard[:MOST_HEARD]))
    reading = _Reading([value], steps, facts, saved_as, steps[0][1])
    read = 0
    for raw in rest:
        try:
            reading.take_line(msgspec.json.decode(raw))
        except _NO_STEP:
            break
        read += 1
    history = History.restored(reading.steps, reading.at, reading.facts)
    lost = _lost(rest, read, data.endswith(b"\n"))
    return Replay(history, _session_file(reading.saved_as), reading.saved, reading.unsaved, lost)


@dataclass
class _Reading:
    """How far a journal was read: the JSON values of its steps, the steps, and which of them is in force."""

    values: list[Any]
    steps: list[tuple[str, Session]]
    facts: SessionFacts
    saved_as: str
    saved: Session
    at: int = 0
    unsaved: bool = False

    def take_line(self, line: dict[str, Any]) -> None:
        """Follow one line of the journal; raises one of ``_NO_STEP`` where it is none."""
        kinds = {"step": self._step, "go": self._go, "muted": self._muted, "heard": self._heard,
                 "learned": self._learned, "saved": self._saved}  # fmt: skip
        follow = next((follow for name, follow in kinds.items() if name in line), None)
        if follow is not None:
            follow(line)

    def _step(self, line: dict[str, Any]) -> None:
        value = apply(self.values[self.at], line["change"])
        decisions = _whole(value)
        del self.values[self.at + 1 :], self.steps[self.at + 1 :]
        self.values.append(value)
        self.steps.append((str(line["step"])[:300], decisions))
        self.at, self.unsaved = self.at + 1, True

    def _go(self, line: dict[str, Any]) -> None:
        self.at, self.unsaved = _index(line["go"], len(self.steps)), True

    def _muted(self, line: dict[str, Any]) -> None:
        muted = msgspec.convert(line["muted"], list[Name])
        self.facts, self.unsaved = replace(self.facts, muted=frozenset(muted[: 2 * MOST_PARTS])), True

    def _heard(self, line: dict[str, Any]) -> None:
        names = msgspec.convert(line["heard"], list[PlayedMark])
        self.facts = replace(self.facts, heard=tuple(sorted({*self.facts.heard, *names})[:MOST_HEARD]))

    def _learned(self, _line: dict[str, Any]) -> None:
        self.unsaved = True

    def _saved(self, line: dict[str, Any]) -> None:
        self.saved_as, self.saved, self.unsaved = str(line["saved"]), self.steps[self.at][1], False


def _lost(lines: list[bytes], read: int, ends: bool) -> int:
    """How many lines could not be read; ``ends``: whether the last one is complete."""
    lost = len(lines) - read
    return (
        0 if lost == 1 and not ends else lost
    )  # half-written when it was killed: nobody was promised that it is there


def _old(journal: OldJournal, lines: list[bytes], saved_as: str, ends: bool) -> Replay:
    read = journal.read(lines)
    history, saved = journal.result()
    file = _session_file(journal.saved_as or saved_as)
    return Replay(history, file, saved, journal.unsaved, _lost(lines, read, ends))


def _whole(value: Any) -> Session:
    """The session of a value from a journal; ValueError where it is none."""
    session = msgspec.convert(value, Session)
    flaw = flaw_of(session)
    if flaw:
        raise ValueError(flaw)
    return session


def _index(value: Any, count: int) -> int:
    if not isinstance(value, int) or not 0 <= value < count:
        raise ValueError(f"{value} is no step")
    return value


def _session_file(name: str) -> str:
    """The session file that a journal names; none where that could not be one, since saving would write over it."""
    path = path_of(name)
    return name if name and "\0" not in name and path.is_absolute() and path.suffix == ENDING else ""


def difference(before: Any, after: Any) -> Any:
    """What turns ``before`` into ``after``: a tree of the places that differ, in JSON values; see :func:`apply`."""
    if type(before) is type(after) and isinstance(before, msgspec.Struct):
        if not before.__struct_config__.omit_defaults:
            pairs = ((name, getattr(before, name), getattr(after, name)) for name in before.__struct_fields__)
            return {name: difference(one, other) for name, one, other in pairs if one is not other and one != other}
        return difference(msgspec.to_builtins(before), msgspec.to_builtins(after))
    if isinstance(before, tuple) and isinstance(after, tuple):
        if any(isinstance(one, Mark) for one in (*before[:1], *after[:1])):
            return {_BY_NAME: _changed_marks(before, after)}
        before, after = list(before), list(after)
    if isinstance(before, dict) and isinstance(after, dict) and before.keys() == after.keys():
        return {k: difference(before[k], after[k]) for k in after if before[k] != after[k]}
    if isinstance(before, list) and isinstance(after, list) and len(before) == len(after):
        places = enumerate(zip(before, after, strict=True))
        return {str(i): difference(one, other) for i, (one, other) in places if one is not other and one != other}
    return {_WHOLE: msgspec.to_builtins(after)}


def _changed_marks(before: tuple[Mark, ...], after: tuple[Mark, ...]) -> dict[str, Any]:
    """The marks that are new or other than before, by their names; None for those that are gone."""
    there = {mark.id: mark for mark in before}
    gone = there.keys() - {mark.id for mark in after}
    changed = (mark for mark in after if (one := there.get(mark.id)) is not mark and one != mark)
    return {mark.id: msgspec.to_builtins(mark) for mark in changed} | dict.fromkeys(sorted(gone))


def apply(before: Any, change: Any) -> Any:
    """The value that :func:`difference` was given; raises KeyError, IndexError or ValueError if it cannot fit."""
    if _WHOLE in change:
        return change[_WHOLE]
    if _BY_NAME in change:
        marks = {mark["id"]: mark for mark in before} | change[_BY_NAME]
        return sorted((mark for mark in marks.values() if mark is not None), key=lambda m: (m["start"], m["id"]))
    if isinstance(before, dict):
        return {k: apply(v, change[k]) if k in change else v for k, v in before.items()}
    result = list(before)
    for place, inner in change.items():
        result[int(place)] = apply(result[int(place)], inner)
    return result
