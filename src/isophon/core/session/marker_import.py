"""Markers from a list of labels: tab-separated text, one a line, start and end in seconds and a name."""

from __future__ import annotations

import math
from pathlib import Path

from isophon.core.errors import InputError
from isophon.core.ranges import MOST_MARKERS
from isophon.core.reading import read_bytes
from isophon.core.session import layout
from isophon.core.session.model import Session

_MOST_BYTES = 1 << 20
_LATEST_S = 86_400.0  # as late as anything of a session may be


def places_in(path: Path) -> list[tuple[float, str]]:
    """The places of a list of labels.

    Returns
    -------
    starts in s of the song, and names, in the order of the file; the end of a label is not used

    Raises
    ------
    InputError : it is no such list; says which line is wrong
    """
    try:
        text = read_bytes(path, _MOST_BYTES).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(f"{path.name}: is not text in UTF-8; nothing was imported") from error
    places = []
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip() and not line.startswith(("#", "\\")):  # remarks, and a second line of frequencies
            places.append(_place(line, f"{path.name}, line {number}"))
    if not places:
        raise InputError(f"{path.name}: holds no labels; a line is start and end in seconds and a name, tab-separated")
    return places


def import_markers(session: Session, places: list[tuple[float, str]]) -> Session:
    """The session with these places as markers, as many as it can hold; those that are there are not doubled."""
    there = {(round(marker.at, 3), marker.name) for marker in session.markers if not marker.part}
    for at, name in places:
        if (round(at, 3), name) not in there and len(session.markers) < MOST_MARKERS:
            session = layout.add_marker(session, at, name)
            there.add((round(at, 3), name))
    return session


def _place(line: str, where: str) -> tuple[float, str]:
    cells = line.split("\t")
    try:
        at = float(cells[0])
    except ValueError as error:
        raise InputError(f"{where}: does not begin with seconds; nothing was imported") from error
    if not math.isfinite(at) or not 0 <= at <= _LATEST_S:
        raise InputError(f"{where}: {cells[0].strip()} s is no place in a song; nothing was imported")
    return at, (cells[2] if len(cells) > 2 else cells[-1] if len(cells) > 1 else "").strip()
