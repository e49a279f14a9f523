"""What types and ranges alone do not tell of a session from a file: numbers, sizes and names that belong together.

Each check says where a value stands and what is wrong with it, in words for a person.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from typing import Any

from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME, KINDS
from isophon.core.ranges import LONGEST_S
from isophon.core.session.items import Guide, Source
from isophon.core.session.model import Part, Session

_DEEPEST = -60.0  # dB
_AROUND_S = 2.0  # how far a mark may lie outside of its take


def flaw_of_values(values: Any) -> tuple[str, str]:
    """Where a tree of JSON values holds a number or a text that is none, as ``$.a[3].b``, and what is wrong with it.

    Two empty texts where it holds none such.
    """
    waiting = [("$", values)]
    while waiting:
        at, value = waiting.pop()
        if isinstance(value, float) and not math.isfinite(value):
            return at, "is no number"
        if isinstance(value, str) and not _is_text(value):
            return at, "is no text that a file can hold"
        if isinstance(value, dict):
            waiting += [(f"{at}.{key}", inner) for key, inner in value.items()]
        elif isinstance(value, list | tuple):
            waiting += [(f"{at}[{i}]", inner) for i, inner in enumerate(value)]
    return "", ""


def _is_text(value: str) -> bool:
    """Whether a text can be written as UTF-8 and holds no null, which no path and no name has."""
    try:
        return "\0" not in value and (value.isascii() or bool(value.encode()))
    except UnicodeEncodeError:
        return False


def in_words(error: str, values: Any) -> str:
    """A validation's message as a person reads it: ``$.session.parts[2].gap`` → ``parts[2].gap ("Low"): …``."""
    what, _, place = error.partition(" - at `")
    place = place.rstrip("`").removeprefix("$.session.").removeprefix("$.")
    found = re.match(r"(parts|guides|markers)\[(\d+)\]", place)
    if not found:
        return f"{place}: {what}" if place else what
    try:
        name = f' ("{str(values["session"][found[1]][int(found[2])]["name"])[:60]}")'
    except (KeyError, IndexError, TypeError):
        name = ""
    return f"{place}{name}: {what}"


def flaw_of(session: Session) -> str:
    """What is wrong with a session as a whole or one of its items; empty where nothing is."""
    twice = _twice(item.id for item in session.items) or _twice(marker.id for marker in session.markers)
    if twice:
        return f'the name "{twice}" is there twice'
    twice = _twice(version.letter for version in session.versions)
    if twice:
        return f'versions: the letter "{twice}" is there twice'
    if flaw := session.bars.flaw():
        return f"bars.{flaw}"
    both: tuple[tuple[str, Sequence[Part | Guide]], ...] = (("parts", session.parts), ("guides", session.guides))
    for rows, items in both:
        for i, item in enumerate(items):
            where, _, what = flaw_of_item(item).partition(": ")
            if what:
                return f'{rows}[{i}].{where} ("{item.name[:60]}"): {what}'
    return ""


def flaw_of_item(item: Part | Guide) -> str:
    """What is wrong with a part or reference, as ``field: what``; empty where nothing is."""
    flaw = _flaw_of_source(item.source)
    if flaw or isinstance(item, Guide):
        return flaw
    twice = _twice(mark.id for mark in item.marks)
    if twice:
        return f'marks: the name "{twice}" is there twice'
    for i, mark in enumerate(item.marks):
        flaw = flaw_of_mark(mark, item.source.duration)
        if flaw:
            return f"marks[{i}].{flaw}"
    return next(filter(None, (kind.finder.flaw(item) for kind in KINDS)), "")


def _flaw_of_source(source: Source) -> str:
    if source.duration > LONGEST_S:
        return f"source.frames: {source.frames} frames would last longer than a day"
    return "" if "\0" not in source.path else "source.path: holds a character that no path has"


def flaw_of_mark(mark: Mark, duration: float) -> str:
    """What is wrong with a mark of a recording of ``duration`` s, as ``field: what``; empty where nothing is."""
    start, end = mark.span
    if (mark.by_hand or 0.0) > BY_NAME[mark.kind].decision.most:
        return f"hand.change_db: a {mark.kind} is not lifted"
    if (mark.by_hand or 0.0) < min(_DEEPEST, BY_NAME[mark.kind].decision.least):
        return f"hand.change_db: {mark.by_hand:g} is too deep for a {mark.kind}"
    flaw = mark.flaw()
    if flaw:
        return flaw
    kind = BY_NAME[mark.kind]
    past_end_s = kind.decision.drawn_s[1] if kind.cure.ends_s else _AROUND_S
    if not (-_AROUND_S <= start < end <= duration + past_end_s and mark.start < mark.end):
        return "start, end: are no span within the take"
    return ""


def _twice(names: Iterable[str]) -> str:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            return name
        seen.add(name)
    return ""
