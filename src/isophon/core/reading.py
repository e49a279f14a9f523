"""Small files and names from outside: read whole but never without end, and spelled so that nothing is lost."""

from __future__ import annotations

import os
import stat
from pathlib import Path
from urllib.parse import quote_from_bytes, unquote_to_bytes

from isophon.core.errors import InputError

MOST_BYTES = 64 << 20  # of a file of ours
_BYTES = "bytes:"  # begins a path that is no text


def read_bytes(path: Path, most: int = MOST_BYTES) -> bytes:
    """All of a regular file of at most ``most`` bytes; InputError for anything else (a pipe, a device, a giant)."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)  # a pipe without a writer would wait
        with open(handle, "rb") as file:
            status = os.fstat(handle)
            if not stat.S_ISREG(status.st_mode):
                raise InputError(f"{path.name}: is no regular file; choose another file")
            if status.st_size > most:
                raise InputError(f"{path.name}: is larger than {most >> 20} MB, which no such file is; "
                                 "choose another file")  # fmt: skip
            return file.read(most)
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or str(error)
        raise InputError(f"{path.name}: cannot be read ({why}); check the name and the folder") from error


def spelled(path: Path) -> str:
    """A path as text that every file and message can hold; :func:`path_of` gives it back.

    Names on Linux are bytes; those that are not UTF-8 are written with percent signs.
    """
    text = str(path)
    try:
        text.encode()
    except UnicodeEncodeError:
        return _BYTES + quote_from_bytes(os.fsencode(path))
    return _BYTES + quote_from_bytes(os.fsencode(path)) if text.startswith(_BYTES) else text


def path_of(text: str) -> Path:
    """The path that was :func:`spelled`."""
    if text.startswith(_BYTES):
        text = os.fsdecode(unquote_to_bytes(text[len(_BYTES) :]))
    return Path(text.replace("\0", "\N{REPLACEMENT CHARACTER}"))


def real(path: Path) -> Path:
    """A path without links, as far as that can be found out; links that lead back to themselves stay."""
    try:
        return Path(os.path.realpath(path))
    except (OSError, ValueError):
        return path.absolute()


def is_there(path: Path) -> bool:
    """Whether there is anything of that name; a name that no file can have is not there."""
    try:
        return path.exists()
    except (OSError, ValueError):
        return False
