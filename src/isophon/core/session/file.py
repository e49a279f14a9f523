"""The session file: JSON, readable by people, completely or not at all.

See docs/file-format.md. Recordings are named relative to the session file where
they lie beside or below it. What is read is checked completely: types, ranges, sizes, and
what belongs together (:mod:`.checks`).
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from isophon.core.atomic import write_text
from isophon.core.errors import DamagedError, InputError, OutputError, shown
from isophon.core.marks import Mark
from isophon.core.passes import AnyMark
from isophon.core.ranges import MOST_HEARD, MOST_MARKERS, MOST_MARKS
from isophon.core.reading import path_of, read_bytes, real, spelled
from isophon.core.session.checks import flaw_of, flaw_of_item, flaw_of_values, in_words
from isophon.core.session.items import Guide, Marker
from isophon.core.session.model import Part, Session

ENDING = ".isophon"
VERSION = 5  # of the session's file
_AT_ONCE = 2_000  # marks
_MOST_MENDED = 200  # flaws of one item
_MOST_TOLD = 6  # losses that a message names


class SessionFile(msgspec.Struct):
    """What a session file holds: the number of its format, and the session."""

    isophon_session: int
    session: Session


def save(session: Session, path: Path) -> None:
    """Write ``session`` to ``path``; OutputError if that cannot be done, the old file then stays."""
    flaw = flaw_of(session) or " ".join(flaw_of_values(msgspec.to_builtins(session))).strip()
    if flaw:
        raise OutputError(f"{path.name}: was not written; it could not be read again ({flaw}). Undo the last step")
    path = real(path)  # a link stays one, and names of recordings count from where the file lies
    folder = path.parent
    write_json(path, SessionFile(VERSION, with_paths(session, lambda name: _relative(path_of(name), folder))))


def load(path: Path, lines: list[str] | None = None) -> Session:
    """Read a session, of this version or an older one; InputError says what is wrong and where.

    An older one is looked through again, since it knew fewer kinds; decisions stay. Of more markers or marks than a
    session can have the first are read, and a line on the rest is added to ``lines``.
    """
    head = outline(path, "isophon_session", "an Isophon session", VERSION)
    too_many = _held_to_the_limits(head.get("session"))
    if lines is not None:
        lines += [f"{path.name}: {line}" for line in too_many]
    head, apart = _marks_apart(head)
    file = converted(path, head, SessionFile)
    parts = (replace(part, marks=apart.get(i, part.marks)) for i, part in enumerate(file.session.parts))
    session = replace(file.session, parts=tuple(parts))
    flaw = flaw_of(session)
    if flaw:
        raise _damaged(path, flaw)
    if file.isophon_session < VERSION:
        session = replace(session, parts=tuple(replace(part, found=False) for part in session.parts))
    return _resolved(session, path)


def _held_to_the_limits(values: Any) -> list[str]:
    """Cut markers and marks of a session's JSON values to as many as can be read, in place; a line for each cut."""
    lines: list[str] = []
    if not isinstance(values, dict):
        return lines

    def cut(rows: Any, key: str, most: int, whose: str) -> None:
        if isinstance(rows, dict) and isinstance(rows.get(key), list) and len(rows[key]) > most:
            lines.append(f"of {len(rows[key])} {key} of {whose} the first {most} were read")
            rows[key] = rows[key][:most]

    cut(values, "markers", MOST_MARKERS, "the song")
    for part in values["parts"] if isinstance(values.get("parts"), list) else []:
        cut(part, "marks", MOST_MARKS, shown(str(part.get("name", "?"))[:60]) if isinstance(part, dict) else "?")
    return lines


def rescue(path: Path) -> tuple[Session, list[str]]:
    """What can be read of a damaged session, and a line for each thing that is lost.

    Of a part or reference that is not complete, the marks and fields that are stay; what is lost has its default.
    InputError where not even the outline can be read.
    """
    head = outline(path, "isophon_session", "an Isophon session", VERSION)
    values = head.get("session")
    lost = _held_to_the_limits(values)
    if not isinstance(values, dict):
        raise InputError(f"{path.name}: is damaged at its beginning; nothing was changed, go back to a copy")
    readable: dict[str, Any] = {"name": str(values.get("name", path.stem))[:300]}
    taken: set[str] = set()
    for key, kind in (("parts", Part), ("guides", Guide), ("markers", Marker)):
        rows = values.get(key, [])
        items = []
        for row in rows if isinstance(rows, list) else []:
            item: Any = _mended(row, kind, lost)
            if item is not None and item.id not in taken:
                items.append(item)
                taken.add(item.id)
        readable[key] = tuple(items)
    if values.get("rate") in (44_100, 48_000, 88_200, 96_000):
        readable["rate"] = values["rate"]
    heard = values.get("heard", [])
    if isinstance(heard, list):
        readable["heard"] = tuple(sorted({h for h in heard[:MOST_HEARD] if isinstance(h, str) and len(h) <= 601}))
    lines = [*lost[:_MOST_TOLD], f"and {len(lost) - _MOST_TOLD} more"] if len(lost) > _MOST_TOLD else lost
    return _resolved(Session(**readable), path), lines


def _mended(row: Any, kind: type, lost: list[str]) -> Any:
    """A part, reference or marker with whatever is wrong in it left out; None where nothing of it can be used."""
    name = str(row.get("name", "?"))[:60] if isinstance(row, dict) else "?"
    for _ in range(_MOST_MENDED):
        try:
            at, why = flaw_of_values(row)
            if not at:
                item: Any = msgspec.convert(row, kind)
                flaw = "" if kind is Marker else flaw_of_item(item)
                if not flaw:
                    return item
                at, _, why = flaw.partition(": ")
                at = f"$.{at}"
        except msgspec.ValidationError as error:
            why, _, at = str(error).partition(" - at `")
        lost.append(f"{name}, {at.strip('`').removeprefix('$.') or 'the whole'}: {why}")
        row = _left_out(row, at.strip("`"), kind)
        if row is None:
            break
    return None


def _left_out(row: Any, at: str, kind: type) -> Any:
    """A row of the file without what stands at ``$.marks[3].start``, say; None where it cannot do without that."""
    found = re.match(r"\$\.(\w+)(?:\[(\d+)\])?", at)
    needed = {field.name for field in msgspec.structs.fields(kind) if field.required}
    if not found or not isinstance(row, dict) or found[1] in needed or found[1] not in row:
        return None
    field, number = found[1], found[2]
    if field == "marks" and number is not None:
        marks = row["marks"]
        return {**row, "marks": marks[: int(number)] + marks[int(number) + 1 :]}
    rest = {key: value for key, value in row.items() if key != field}
    return rest | {"found": False} if field in ("marks", "measured") else rest


def _resolved(session: Session, path: Path) -> Session:
    folder = real(path).parent
    return with_paths(session, lambda name: spelled(real(folder / path_of(name))))


def with_paths(session: Session, change: Callable[[str], str]) -> Session:
    """The session with the path of every recording changed."""

    def changed(items: tuple) -> tuple:
        return tuple(replace(i, source=replace(i.source, path=change(i.source.path))) for i in items)

    return replace(session, parts=changed(session.parts), guides=changed(session.guides))


def write_json(path: Path, value: Any) -> None:
    """Write a value as indented JSON, completely or not at all; OutputError if that cannot be done."""
    text = msgspec.json.format(msgspec.json.encode(value), indent=1).decode()
    write_text(path, text + "\n")


def outline(path: Path, key: str, what: str, version: int) -> dict[str, Any]:
    """The JSON object in a file whose version stands under ``key``; InputError where it is not ``what`` or newer."""
    data = read_bytes(path)
    try:
        head = msgspec.json.decode(data)  # quick, since it stops all threads
    except (msgspec.MsgspecError, ValueError, RecursionError):
        try:
            head = json.loads(data.decode("utf-8"))
        except (ValueError, RecursionError) as error:  # json says the line and the column
            raise _damaged(path, str(error)) from error
    if not isinstance(head, dict) or key not in head:
        raise InputError(f"{path.name}: is not {what}; choose another file")
    if isinstance(head[key], int) and head[key] > version:
        raise InputError(f"{path.name}: was written by a newer Isophon (version {head[key]}); update this one")
    return head


def converted(path: Path, head: dict[str, Any], kind: type) -> Any:
    """The values of a file as a ``kind``; DamagedError says what is wrong and where."""
    at, why = flaw_of_values(head)
    if at:
        raise _damaged(path, in_words(f"{why} - at `{at}`", head))
    try:
        return msgspec.convert(head, kind)
    except msgspec.ValidationError as error:
        raise _damaged(path, in_words(str(error), head)) from error


def _marks_apart(head: dict[str, Any]) -> tuple[dict[str, Any], dict[int, tuple[Mark, ...]]]:
    """A session file's values without the marks of parts that have very many, and these by the part's place.

    They are converted a few at a time, since a conversion stops all other threads. Nothing is set apart where
    anything is wrong: what that is, the whole tells better.
    """
    apart: dict[int, tuple[Mark, ...]] = {}
    try:
        parts = list(head["session"]["parts"])
        for i, part in enumerate(parts):
            rows = part.get("marks", [])
            if len(rows) > _AT_ONCE:
                marks: list[Mark] = []
                for first in range(0, len(rows), _AT_ONCE):
                    marks += msgspec.convert(rows[first : first + _AT_ONCE], list[AnyMark])
                    time.sleep(0)  # let others have their turn
                apart[i], parts[i] = tuple(marks), {**part, "marks": []}
        return {**head, "session": {**head["session"], "parts": parts}}, apart
    except (KeyError, TypeError, AttributeError, msgspec.ValidationError):
        return head, {}


def _damaged(path: Path, how: str) -> DamagedError:
    return DamagedError(f"{path.name}: is damaged ({how}); nothing was changed, go back to a copy")


def _relative(path: Path, folder: Path) -> str:
    try:
        path = Path(real(path).relative_to(folder).as_posix())
    except ValueError:
        pass
    return spelled(path)
