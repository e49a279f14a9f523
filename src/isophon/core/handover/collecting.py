"""A session with all of its recordings in one folder, to be carried elsewhere: whole, or not at all."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError, OutputError
from isophon.core.handover import bundle
from isophon.core.handover.target import Target
from isophon.core.reading import path_of, spelled
from isophon.core.session import file
from isophon.core.session.model import Session

RECORDINGS = "recordings"
_BLOCK = 1 << 22  # bytes


def collect(session: Session, name: str, folder: Path, tell: Callable[[float], None] = lambda _share: None) -> Path:
    """Copy the recordings of a session into a folder, with the session beside them; where that session is.

    Parameters
    ----------
    session : its recordings are read and stay where they are
    name : of the session's file, without its ending
    folder : new, or empty
    tell : how far it is, 0 to 1; what it raises ends the copying, and nothing is left

    Raises
    ------
    InputError : a recording is not there, or is none
    OutputError : the folder holds something, or cannot be written
    """
    names = _names(session)
    sizes = {path: _size(path_of(path)) for path in names}
    done, everything = 0, max(1, sum(sizes.values()))
    with bundle.all_or_nothing(Target(folder)) as made:
        _make(made.folder / RECORDINGS)
        for path, own in names.items():
            for count in _copied(path_of(path), made.folder / RECORDINGS / own):
                done += count
                tell(done / everything)
        moved = file.with_paths(session, lambda path: spelled(made.folder / RECORDINGS / names[path]))
        file.save(moved, made.folder / _file_name(name))
    return folder / _file_name(name)


def plain_name(name: str) -> str:
    """A session's name as a file or folder can have it: it leads nowhere else."""
    plain = "".join("_" if sign in "/\0" or not sign.isprintable() else sign for sign in name).strip(". ")
    return plain or "session"


def _names(session: Session) -> dict[str, str]:
    """What each recording is called in the folder, by its path: its own name, numbered where another has it."""
    names: dict[str, str] = {}
    taken: set[str] = set()
    for path in dict.fromkeys(item.source.path for item in session.items):
        own, number = path_of(path), 1
        name = own.name
        while name.casefold() in taken:
            number += 1
            name = f"{own.stem} {number}{own.suffix}"
        names[path] = name
        taken.add(name.casefold())
    return names


def _size(path: Path) -> int:
    """Of a recording, bytes; whatever else a session may name is not copied, since the folder may be given away."""
    try:
        with Recording(path):
            return path.stat().st_size
    except (InputError, OSError) as error:
        raise InputError(f"{path.name}: is not there or no recording, so nothing was copied; see Lay out") from error


def _make(folder: Path) -> None:
    try:
        folder.mkdir()
    except OSError as error:
        raise OutputError(f"{folder.name}: cannot be made there ({error.strerror}); nothing was left behind") from error


def _copied(source: Path, target: Path) -> Iterator[int]:
    """Copy a file with its time; how many bytes were copied, from block to block."""
    try:
        with source.open("rb") as reading, target.open("xb") as writing:
            while block := reading.read(_BLOCK):
                writing.write(block)
                yield len(block)
        shutil.copystat(source, target)
    except OSError as error:
        raise OutputError(f"{source.name}: cannot be copied ({error.strerror}); nothing was left behind") from error


def _file_name(name: str) -> str:
    return f"{plain_name(name)}{file.ENDING}"
