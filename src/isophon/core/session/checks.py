"""What types and ranges alone do not tell of a session from a file: numbers, sizes and names that belong together.

Each check says where a value stands and what is wrong with it, in words for a person.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from typing import Any

import numpy as np

from isophon.core.audio.spectra import third_octave_edges
from isophon.core.marks import KINDS, Mark
from isophon.core.passes.bleed.settings import Leak
from isophon.core.passes.gaps.find import ROOM_EDGES
from isophon.core.passes.hiss.settings import BANDS
from isophon.core.passes.hum.model import Hum
from isophon.core.ranges import LONGEST_S
from isophon.core.session.model import Guide, Part, Session, Source

_LOUDEST = 1_000.0  # a partial's amplitude; full scale is 1
_AROUND_S = 2.0  # how far a mark may lie outside of its take


def not_finite(values: Any) -> str:
    """Where a tree of JSON values holds a number that is none, as ``$.a[3].b``; empty where it holds none such."""
    waiting = [("$", values)]
    while waiting:
        at, value = waiting.pop()
        if isinstance(value, float) and not math.isfinite(value):
            return at
        if isinstance(value, dict):
            waiting += [(f"{at}.{key}", inner) for key, inner in value.items()]
        elif isinstance(value, list | tuple):
            waiting += [(f"{at}[{i}]", inner) for i, inner in enumerate(value)]
    return ""


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
    for rows, items in (("parts", session.parts), ("guides", session.guides)):
        for i, item in enumerate(items):
            where, _, what = flaw_of_item(item).partition(": ")
            if what:
                return f'{rows}[{i}].{where} ("{item.name[:60]}"): {what}'
    return ""


def flaw_of_item(item: Part | Guide) -> str:
    """What is wrong with a part or guide, as ``field: what``; empty where nothing is."""
    flaw = _flaw_of_source(item.source)
    if flaw or isinstance(item, Guide):
        return flaw
    twice = _twice(mark.id for mark in item.marks)
    if twice:
        return f'marks: the name "{twice}" is there twice'
    for i, mark in enumerate(item.marks):
        flaw = _flaw_of_mark(mark, item.source.duration)
        if flaw:
            return f"marks[{i}].{flaw}"
    for name, values in (("facts.noise", item.facts.noise), ("learned", item.learned)):
        if len(values) not in (0, BANDS):
            return f"{name}: holds {len(values)} levels, not {BANDS}"
    if len(item.facts.room) not in (0, _room_bands()):
        return f"facts.room: holds {len(item.facts.room)} levels, not {_room_bands()}"
    return _flaw_of_hum(item.facts.hum, item.source) or _flaw_of_leak(item.leak)


def _flaw_of_source(source: Source) -> str:
    if source.duration > LONGEST_S:
        return f"source.frames: {source.frames} frames would last longer than a day"
    return "" if "\0" not in source.path else "source.path: holds a character that no path has"


def _flaw_of_mark(mark: Mark, duration: float) -> str:
    if mark.kind not in KINDS:
        return f'kind: "{mark.kind[:30]}" is none'
    start, end = mark.span
    if not (-_AROUND_S <= start < end <= duration + _AROUND_S and mark.start < mark.end):
        return "start, end: are no span within the take"
    return ""


def _flaw_of_hum(hum: Hum | None, source: Source) -> str:
    if hum is None:
        return ""
    if hum.channels != source.channels:
        return "facts.hum.channels: are not those of the recording"
    numbers = [partial.number for partial in hum.partials]
    if sorted(set(numbers)) != numbers:
        return "facts.hum.partials: do not go up"
    knots = len(hum.phases) // 8
    if len(hum.phases) % 8 or not 2 <= knots <= source.frames // hum.step + 4:
        return "facts.hum.phases: do not fit the take"
    if len(hum.amplitudes) != 8 * hum.channels * knots * len(numbers):
        return "facts.hum.amplitudes: do not fit the partials"
    phases, amplitudes = np.frombuffer(hum.phases, np.float64), np.frombuffer(hum.amplitudes, np.complex64)
    turned = np.abs(np.diff(phases)) < 100.0 * hum.step / source.sample_rate  # the mains turn 40 to 70 times a second
    if not (np.isfinite(phases).all() and turned.all()):
        return "facts.hum.phases: are not those of the mains"
    if not (np.isfinite(amplitudes).all() and np.abs(amplitudes).max() < _LOUDEST):
        return "facts.hum.amplitudes: are no levels"
    return ""


def _flaw_of_leak(leak: Leak | None) -> str:
    if leak is None:
        return ""
    if len(leak.path) % (4 * leak.ways):
        return "leak.path: does not fit its ways"
    path = np.frombuffer(leak.path, np.float32)
    if len(path) and not (np.isfinite(path).all() and np.abs(path).max() < _LOUDEST):
        return "leak.path: holds numbers that are none"
    if any(end <= start or start < 0 for start, end in leak.moments):
        return "leak.moments: are no spans"
    return ""


def _room_bands() -> int:
    return len(third_octave_edges(*ROOM_EDGES)) - 1


def _twice(names: Iterable[str]) -> str:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            return name
        seen.add(name)
    return ""
