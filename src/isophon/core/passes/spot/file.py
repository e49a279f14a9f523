"""Spots from a text file.

Tab-separated ``start_s end_s low_hz high_hz change_db``, one a line; ``#`` begins a comment.
"""

from __future__ import annotations

import math
from pathlib import Path

from isophon.core.errors import InputError
from isophon.core.marks import Hand, Mark, mark_id
from isophon.core.passes.spot.mark import SpotMark
from isophon.core.passes.spot.settings import DEEPEST_DB, DRAWN_S, MOST_DB
from isophon.core.reading import read_bytes

_MOST = 10_000  # spots in a file


def load_spots(path: Path, duration: float) -> tuple[Mark, ...]:
    """The spots of a file for a take of ``duration`` s; InputError names the line that is wrong."""
    try:
        lines = read_bytes(path).decode().splitlines()
    except UnicodeDecodeError as error:
        raise InputError(f"{path.name}: is no text; a spots file holds five numbers a line") from error
    marks: list[Mark] = []
    names: set[str] = set()
    for number, line in enumerate(lines, 1):
        text = line.partition("#")[0].strip()
        if not text:
            continue
        if len(marks) == _MOST:
            raise InputError(f"{path.name}: holds more than {_MOST} spots; split it")
        mark = _mark(text.split(), f"{path.name}, line {number}", duration, names)
        names.add(mark.id.removesuffix("-drawn"))
        marks.append(mark)
    return tuple(sorted(marks, key=lambda m: (m.start, m.id)))


def _mark(words: list[str], where: str, duration: float, names: set[str]) -> Mark:
    try:
        start, end, low, high, change = (float(word) for word in words)
    except ValueError as error:
        raise InputError(f"{where}: is not five numbers (start_s end_s low_hz high_hz change_db)") from error
    if not all(map(math.isfinite, (start, end, low, high, change))):
        raise InputError(f"{where}: holds what is no number")
    if not (0 <= start < end and DRAWN_S[0] <= end - start <= DRAWN_S[1]):
        raise InputError(f"{where}: {start:g} to {end:g} s is no span that a spot can have")
    if end > duration + 0.5:
        raise InputError(f"{where}: ends at {end:g} s, after the recording ({duration:.1f} s)")
    if not (0 <= low <= high <= 200_000) or (low == high and high > 0):
        raise InputError(f"{where}: {low:g} to {high:g} Hz is no band; 0 and 0 mean all of it")
    if not DEEPEST_DB <= change <= MOST_DB:
        raise InputError(f"{where}: {change:g} dB is out of range ({DEEPEST_DB:g} to {MOST_DB:g})")
    hand = Hand(change_db=change, drawn=True)
    return SpotMark(
        f"{mark_id('spot', start, names)}-drawn", start, min(end, duration), 0.0, 0.0, low, high, 1.0, hand=hand
    )
