"""What was found and learned in the parts of a session, kept beside its journal.

JSON lines, a part's facts each, the last one of a part and a recording being in force. It holds nothing that a person
decided: what of it is lost or damaged is found again.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from isophon.core.errors import InputError
from isophon.core.ranges import Name
from isophon.core.reading import read_bytes
from isophon.core.session.checks import flaw_of_item
from isophon.core.session.facts import Facts, FactsByPart
from isophon.core.session.file import VERSION
from isophon.core.session.lines import LineFile
from isophon.core.session.model import Part

_MOST_BYTES = 1 << 30  # of a file of findings
_SPARE_LINES = 30  # that are not in force any more, until the file is written anew


class _Line(msgspec.Struct):
    part: Name
    facts: Facts
    version: int = 0


def found_path(journal: Path) -> Path:
    """Where the facts beside a journal lie."""
    return journal.with_suffix(".found")


class FoundFile:
    """Writes down what is new."""

    def __init__(self, path: Path) -> None:
        self._file = LineFile(path)
        self._written: FactsByPart = {}
        self._lines = 0

    def write(self, facts: FactsByPart) -> None:
        """Write down the facts that are not written yet; OutputError if they cannot be written."""
        new = {key: one for key, one in facts.items() if self._written.get(key) is not one}
        if not new:
            return
        if not self._written or self._lines > len(facts) + _SPARE_LINES or not self._file.path.exists():
            self._file.begin(_lines(facts))
            self._lines = len(facts)
        else:
            self._file.append(_lines(new))
            self._lines += len(new)
        self._written = dict(facts)

    def move(self, path: Path) -> None:
        """Go on under another name."""
        self._file.move(path)


def _lines(facts: FactsByPart) -> list[dict[str, Any]]:
    return [{"part": part_id, "version": VERSION, "facts": msgspec.to_builtins(one)}
            for (part_id, _), one in facts.items()]  # fmt: skip


def read_found(path: Path) -> FactsByPart:
    """The facts of such a file, as far as they can be used; none where there is no such file."""
    try:
        data = read_bytes(path, _MOST_BYTES)
    except InputError:
        return {}
    read: FactsByPart = {}
    decoder = msgspec.json.Decoder(_Line)
    for raw in data.split(b"\n"):
        try:
            line = decoder.decode(raw)
        except (msgspec.MsgspecError, ValueError, RecursionError):
            continue
        if line.version == VERSION and not flaw_of_facts(line.facts):  # others knew fewer kinds
            read[line.part, line.facts.source] = line.facts
    return read


def flaw_of_facts(facts: Facts) -> str:
    """What is wrong with facts as a part would have them; empty where nothing is."""
    own = {field: getattr(facts, field) for field in facts.__struct_fields__}
    return flaw_of_item(Part("", "", own.pop("source"), **own))
