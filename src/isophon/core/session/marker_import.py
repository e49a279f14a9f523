"""Markers, tempo and meter from files: a list of labels (tab-separated text, one a line: start and end in s, a name),
the cue points of a WAVE file, a standard MIDI file.
"""

from __future__ import annotations

import contextlib
import math
from pathlib import Path

import msgspec

from isophon.core.audio.chunks import read_cues
from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.ranges import MOST_MARKERS
from isophon.core.reading import path_of, read_bytes, real
from isophon.core.session import layout, midi_file
from isophon.core.session.model import Session

_MOST_BYTES = 1 << 20  # of a file of labels
_LATEST_S = 86_400.0  # as late as anything of a session may be


def import_file(session: Session, path: Path) -> Session:
    """The session with the markers of a file, and with the tempo and meter of a MIDI file.

    The cue points of a recording of the session stand where it lies in the song. InputError where the file holds
    nothing to import.
    """
    head = _head_of(path)
    if head == midi_file.HEAD:
        score = midi_file.score_in(path)
        if not (score.bars.tempos or score.places):
            raise InputError(f"{path.name}: holds neither tempo nor markers; nothing was imported")
        bars = score.bars if score.bars.tempos else session.bars
        return import_markers(msgspec.structs.replace(session, bars=bars), score.places)
    if head in (b"RIFF", b"RF64"):
        return import_markers(session, _cues_in(session, path))
    return import_markers(session, places_in(path))


def _head_of(path: Path) -> bytes:
    """The first four bytes of a file; none where it cannot be read, which is an error where it is read as a whole."""
    with contextlib.suppress(OSError, ValueError), path.open("rb") as file:
        return file.read(4)
    return b""


def _cues_in(session: Session, path: Path) -> list[tuple[float, str]]:
    with Recording(path) as recording:
        rate = recording.sample_rate
    offset_s = next((i.offset_s for i in session.items if real(path_of(i.source.path)) == real(path)), 0.0)
    places = [(max(0.0, at + offset_s), name) for at, name in read_cues(path, rate)]
    if not places:
        raise InputError(f"{path.name}: holds no cue points; nothing was imported")
    return places


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
    new: dict[tuple[float, str], tuple[float, str]] = {}
    for at, name in places:
        if (round(at, 3), name) not in there:
            new.setdefault((round(at, 3), name), (at, name))
    return layout.add_markers(session, list(new.values())[: MOST_MARKERS - len(session.markers)])


def _place(line: str, where: str) -> tuple[float, str]:
    cells = line.split("\t")
    try:
        at = float(cells[0])
    except ValueError as error:
        raise InputError(f"{where}: does not begin with seconds; nothing was imported") from error
    if not math.isfinite(at) or not 0 <= at <= _LATEST_S:
        raise InputError(f"{where}: {cells[0].strip()} s is no place in a song; nothing was imported")
    return at, (cells[2] if len(cells) > 2 else cells[-1] if len(cells) > 1 else "").strip()
