"""The journal: every step of a session's history, written down as it is made.

A file of JSON lines that only grows. The first line holds the first session;
each further one is a step (what changed), a move through the history (undo,
redo), what was found or learned in a part, what was muted or heard, or that the session was saved. Killed at any
moment, all whole lines count; a half-written last line does not.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path
from typing import Any, cast

import msgspec

from isophon.core.audio.writing import write_text
from isophon.core.errors import InputError, OutputError
from isophon.core.marks import Mark
from isophon.core.passes.bleed.settings import Leak
from isophon.core.ranges import Heard
from isophon.core.reading import path_of, read_bytes, spelled
from isophon.core.session.checks import flaw_of
from isophon.core.session.edits import Beside, Findings, Hits, adopt_beside, adopt_findings, adopt_leak, hear
from isophon.core.session.file import ENDING
from isophon.core.session.history import History
from isophon.core.session.layout import mute
from isophon.core.session.model import Session

VERSION = 1
_WHOLE = "="
_MOST_BYTES = 512 << 20
_NO_STEP = (msgspec.MsgspecError, KeyError, TypeError, AttributeError, IndexError, ValueError, RecursionError)


@dataclass(frozen=True)
class Replay:
    """What a journal tells.

    ``saved_as``: the file it belongs to, '' for none yet; ``saved``: the session
    as it was last saved there; ``unsaved``: whether steps came after that;
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

    def __init__(self, path: Path, history: History, saved_as: Path | None) -> None:
        """Begin a journal with all steps of a history; OutputError if it cannot be written."""
        self.path = path
        self._saved_as, self._saved_at = saved_as, cast("int | None", None)
        self._steps: list[tuple[str, Session]] = []
        self._at, self._size = 0, 0
        self._begin(history)

    def write(self, history: History) -> None:
        """Add what happened since the last time; OutputError if it cannot be written."""
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
        if lines:
            self._append(lines)
        self._steps, self._at, self._saved_at = steps, history.at, saved_at

    def found(self, history: History, part_id: str, findings: Findings) -> None:
        """Add what was found in a part, which ``history`` was amended with since the last time."""
        self._fact(history, {"found": part_id, "findings": msgspec.to_builtins(findings)})

    def beside(self, history: History, part_id: str, found: Beside) -> None:
        """Add what was found in a part beside the lead, which ``history`` was amended with since the last time."""
        self._fact(history, {"beside": part_id, "findings": msgspec.to_builtins(found)})

    def heard(self, history: History, names: Collection[str]) -> None:
        """Add which marks were heard, which ``history`` was amended with since the last time."""
        self._fact(history, {"heard": sorted(names)})

    def leak(self, history: History, part_id: str, leak: Leak, hits: tuple[Mark, ...]) -> None:
        """Add what was learned of a part's leak, which ``history`` was amended with since the last time."""
        learned = {"facts": msgspec.to_builtins(leak), "hits": msgspec.to_builtins(hits)}
        self._fact(history, {"leak": part_id, **learned})

    def muted(self, history: History, item_id: str, muted: bool) -> None:
        """Add whether a part or reference is muted, which ``history`` was amended with since the last time."""
        self._fact(history, {"muted": item_id, "to": muted})

    def _fact(self, history: History, line: dict[str, Any]) -> None:
        """Add what is true of all steps and is none."""
        before, self._steps = self._steps, []  # until it is written, no step is known to be there as it is now
        if len(before) != len(history.steps) or not self.path.exists():
            self._begin(history)
            return
        self._append([line])
        self._steps, self._at = history.steps, history.at

    def saved(self, history: History, saved_as: Path, path: Path) -> None:
        """Note that the session was saved; the journal goes on at ``path``, which belongs to the file."""
        self._saved_as = saved_as
        self.write(history)
        self._append([{"saved": spelled(saved_as)}])
        self._saved_at = history.at
        if path != self.path:
            with contextlib.suppress(OSError):
                os.replace(self.path, path)
                self.path = path

    def _begin(self, history: History) -> None:
        """Write the whole journal anew."""
        steps, saved_at = history.steps, self._saved_at
        head = {
            "isophon_journal": VERSION, "saved_as": spelled(self._saved_as) if self._saved_as else "",
            "first": msgspec.to_builtins(steps[0][1]),
        }  # fmt: skip
        lines: list[dict[str, Any]] = [_step(steps, i) for i in range(1, len(steps))]
        at = len(steps) - 1
        if saved_at is not None and saved_at < len(steps):
            lines += [{"go": saved_at}] if saved_at != at else []
            lines.append({"saved": spelled(self._saved_as or Path())})
            at = saved_at
        lines += [{"go": history.at}] if history.at != at else []
        text = b"".join(msgspec.json.encode(line) + b"\n" for line in [head, *lines])
        write_text(self.path, text.decode())
        self._size = len(text)
        self._steps, self._at = steps, history.at

    def _append(self, lines: list[dict[str, Any]]) -> None:
        data = b"".join(msgspec.json.encode(line) + b"\n" for line in lines)
        try:
            with self.path.open("r+b") as file:
                file.truncate(self._size)  # what an earlier failure may have left
                file.seek(self._size)
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            with contextlib.suppress(OSError):
                os.truncate(self.path, self._size)
            raise OutputError(
                f"{self.path}: the journal cannot be written ({error.strerror}); save the session to a safe place"
            ) from error
        self._size += len(data)


def _step(steps: list[tuple[str, Session]], i: int) -> dict[str, Any]:
    return {"step": steps[i][0], "change": difference(steps[i - 1][1], steps[i][1])}


def replay(path: Path) -> Replay:
    """Read a journal as far as it is whole; InputError if not even its beginning is."""
    data = read_bytes(path, _MOST_BYTES)
    lines = data.split(b"\n")
    try:
        head = msgspec.json.decode(lines[0])
        if head["isophon_journal"] > VERSION:
            raise InputError(f"{path.name}: was written by a newer Isophon; update this one")
        value = head["first"]
        steps = [("open", _whole(value))]
        saved_as = str(head.get("saved_as", ""))
    except (msgspec.MsgspecError, KeyError, TypeError, AttributeError, ValueError, RecursionError) as error:
        raise InputError(f"{path.name}: is damaged at its beginning ({error}); it was left where it is") from error
    values, at, saved, unsaved = [value], 0, steps[0][1], False
    rest = [line for line in lines[1:] if line]
    read = 0
    for raw in rest:
        try:
            line = msgspec.json.decode(raw)
            if "step" in line:
                value = apply(values[at], line["change"])
                session = _whole(value)
                del values[at + 1 :], steps[at + 1 :]
                values.append(value)
                steps.append((str(line["step"])[:300], session))
                at, unsaved = at + 1, True
            elif "go" in line:
                steps[_index(line["go"], len(steps))]
                at, unsaved = line["go"], True
            elif "found" in line:
                findings = msgspec.convert(line["findings"], Findings)
                steps = [(name, adopt_findings(session, line["found"], findings)) for name, session in steps]
                values = [msgspec.to_builtins(session) for _, session in steps]
            elif "beside" in line:
                beside = msgspec.convert(line["findings"], Beside)
                steps = [(name, adopt_beside(session, line["beside"], beside)) for name, session in steps]
                values = [msgspec.to_builtins(session) for _, session in steps]
            elif "leak" in line:
                leak, hits = msgspec.convert(line["facts"], Leak), msgspec.convert(line["hits"], Hits)
                steps = [(name, adopt_leak(session, line["leak"], leak, hits)) for name, session in steps]
                for _, session in steps:
                    if flaw := flaw_of(session):
                        raise ValueError(flaw)
                values, unsaved = [msgspec.to_builtins(session) for _, session in steps], True
            elif "muted" in line:
                muted = msgspec.convert(line["to"], bool)
                steps = [(name, mute(session, line["muted"], muted)) for name, session in steps]
                values, unsaved = [msgspec.to_builtins(session) for _, session in steps], True
            elif "heard" in line:
                names = msgspec.convert(line["heard"], list[Heard])
                steps = [(name, hear(session, names)) for name, session in steps]
                values = [
                    value | {"heard": list(session.heard)} for value, (_, session) in zip(values, steps, strict=True)
                ]
            elif "saved" in line:
                saved_as, saved, unsaved = str(line["saved"]), steps[at][1], False
        except _NO_STEP:
            break
        read += 1
    lost = len(rest) - read
    if lost == 1 and not data.endswith(b"\n"):
        lost = 0  # half-written when it was killed, so it was never told to be there
    return Replay(History.restored(steps, at), _session_file(saved_as), saved, unsaved, lost)


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


def _session_file(told: str) -> str:
    """The session file that a journal names; none where that could not be one, since saving would write over it."""
    path = path_of(told)
    return told if told and "\0" not in told and path.is_absolute() and path.suffix == ENDING else ""


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
        places = enumerate(zip(before, after, strict=True))
        return {str(i): difference(one, other) for i, (one, other) in places if one is not other and one != other}
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
