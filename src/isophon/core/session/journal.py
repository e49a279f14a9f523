"""The journal: every step of a session's history, written down as it is made.

A file of JSON lines that only grows. The first line holds the first session;
each further one is a step (what changed), a move through the history (undo,
redo), what was found in a part, or that the session was saved. Killed at any moment, all whole lines
count; a half-written last line does not.
"""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec

from isophon.core.audio.writing import write_text
from isophon.core.errors import InputError, OutputError
from isophon.core.session.edits import Findings, adopt_findings
from isophon.core.session.history import History
from isophon.core.session.model import Session

VERSION = 1
_WHOLE = "="


@dataclass(frozen=True)
class Replay:
    """What a journal tells.

    ``saved_as``: the file it belongs to, '' for none yet; ``saved``: the session
    as it was last saved there; ``unsaved``: whether steps came after that.
    """

    history: History
    saved_as: str
    saved: Session
    unsaved: bool


class Journal:
    """Writes a history down. :meth:`write` is called after edits and adds what is new."""

    def __init__(self, path: Path, history: History, saved_as: Path | None) -> None:
        """Begin a journal with all steps of a history; OutputError if it cannot be written."""
        self.path = path
        self._steps = history.steps[:1]
        self._at = 0
        head = {
            "isophon_journal": VERSION, "saved_as": str(saved_as or ""),
            "first": msgspec.to_builtins(history.steps[0][1]),
        }  # fmt: skip
        write_text(path, msgspec.json.encode(head).decode() + "\n")
        self.write(history)

    def write(self, history: History) -> None:
        """Add what happened since the last time; OutputError if it cannot be written."""
        steps = history.steps
        common = 0
        for (_, one), (_, other) in zip(self._steps, steps, strict=False):
            if one is not other:
                break
            common += 1
        lines: list[dict[str, Any]] = []
        if common < max(len(self._steps), len(steps)):
            if self._at != common - 1:
                lines.append({"go": common - 1})
            for i in range(common, len(steps)):
                lines.append({"step": steps[i][0], "change": difference(steps[i - 1][1], steps[i][1])})
            self._at = len(steps) - 1
        if history.at != self._at:
            lines.append({"go": history.at})
        self._steps, self._at = steps, history.at
        if lines:
            self._append(lines)

    def found(self, history: History, part_id: str, findings: Findings) -> None:
        """Add what was found in a part, which ``history`` was amended with since the last time."""
        self._steps, self._at = history.steps, history.at
        self._append([{"found": part_id, "findings": msgspec.to_builtins(findings)}])

    def saved(self, history: History, saved_as: Path, path: Path) -> None:
        """Note that the session was saved; the journal goes on at ``path``, which belongs to the file."""
        self.write(history)
        self._append([{"saved": str(saved_as)}])
        if path != self.path:
            with contextlib.suppress(OSError):
                os.replace(self.path, path)
                self.path = path

    def _append(self, lines: list[dict[str, Any]]) -> None:
        try:
            with self.path.open("ab") as file:
                file.write(b"".join(msgspec.json.encode(line) + b"\n" for line in lines))
        except OSError as error:
            raise OutputError(
                f"{self.path}: the journal cannot be written ({error.strerror}); save the session to a safe place"
            ) from error


def replay(path: Path) -> Replay:
    """Read a journal as far as it is whole; InputError if not even its beginning is."""
    try:
        lines = path.read_bytes().split(b"\n")
        head = msgspec.json.decode(lines[0])
        if head["isophon_journal"] > VERSION:
            raise InputError(f"{path.name}: was written by a newer Isophon; update this one")
        value = head["first"]
        steps = [("open", msgspec.convert(value, Session))]
    except OSError as error:
        raise InputError(f"{path.name}: cannot be read ({error.strerror})") from error
    except (msgspec.MsgspecError, KeyError, TypeError) as error:
        raise InputError(f"{path.name}: is damaged at its beginning ({error}); it was left where it is") from error
    values, at, saved_as, saved, unsaved = [value], 0, str(head.get("saved_as", "")), steps[0][1], False
    for raw in lines[1:]:
        try:
            line = msgspec.json.decode(raw)
            if "step" in line:
                value = apply(values[at], line["change"])
                session = msgspec.convert(value, Session)
                del values[at + 1 :], steps[at + 1 :]
                values.append(value)
                steps.append((line["step"], session))
                at, unsaved = at + 1, True
            elif "go" in line and 0 <= line["go"] < len(steps):
                at, unsaved = line["go"], True
            elif "found" in line:
                findings = msgspec.convert(line["findings"], Findings)
                steps = [(name, adopt_findings(session, line["found"], findings)) for name, session in steps]
                values = [msgspec.to_builtins(session) for _, session in steps]
            elif "saved" in line:
                saved_as, saved, unsaved = line["saved"], steps[at][1], False
        except (msgspec.MsgspecError, KeyError, TypeError, IndexError, ValueError):
            break
    return Replay(History.restored(steps, at), saved_as, saved, unsaved)


def difference(before: Any, after: Any) -> Any:
    """What turns ``before`` into ``after``: a tree of the places that differ, in JSON values; see :func:`apply`."""
    if type(before) is type(after) and isinstance(before, msgspec.Struct):
        if not before.__struct_config__.omit_defaults:
            pairs = ((name, getattr(before, name), getattr(after, name)) for name in before.__struct_fields__)
            return {name: difference(one, other) for name, one, other in pairs if one is not other and one != other}
        return difference(msgspec.to_builtins(before), msgspec.to_builtins(after))
    if isinstance(before, tuple) and isinstance(after, tuple):
        before, after = list(before), list(after)
    if isinstance(before, dict) and isinstance(after, dict) and before.keys() == after.keys():
        return {k: difference(before[k], after[k]) for k in after if before[k] != after[k]}
    if isinstance(before, list) and isinstance(after, list) and len(before) == len(after):
        pairs = enumerate(zip(before, after, strict=True))
        return {str(i): difference(one, other) for i, (one, other) in pairs if one is not other and one != other}
    return {_WHOLE: msgspec.to_builtins(after)}


def apply(before: Any, change: Any) -> Any:
    """The value that :func:`difference` was told about; raises KeyError, IndexError or ValueError if it cannot fit."""
    if _WHOLE in change:
        return change[_WHOLE]
    if isinstance(before, dict):
        return {k: apply(v, change[k]) if k in change else v for k, v in before.items()}
    result = list(before)
    for place, inner in change.items():
        result[int(place)] = apply(result[int(place)], inner)
    return result
