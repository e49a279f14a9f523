"""Files that are written completely or not at all: beside their final name, and moved there when they are complete."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import re
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from isophon.core.errors import ExistsError, OutputError

_PREFIX, _SUFFIX = ".isophon-", ".part"
_OURS = re.compile(r"\.isophon-[a-z0-9_]{8}\.part(\.\w{1,8})?")


@contextlib.contextmanager
def atomic(path: Path, force: bool) -> Iterator[Path]:
    """A temporary path beside ``path`` that takes its place if the block succeeds.

    Raises OutputError if ``path`` exists and ``force`` is false, or on any
    failure to write; the temporary file is then gone and ``path`` untouched.
    """
    temporary: Path | None = None
    handle: int | None = None
    try:
        if "\0" in str(path):
            raise OSError(errno.EINVAL, "no name holds a null character")
        if path.exists() and not force:
            raise ExistsError(f"{path}: exists already and was kept; use another folder, or allow writing over it")
        path.parent.mkdir(parents=True, exist_ok=True)
        clear_left_over(path.parent, _OURS, Path.unlink)
        handle, name = tempfile.mkstemp(prefix=_PREFIX, suffix=_SUFFIX + path.suffix[:9], dir=path.parent)
        temporary = Path(name)
        fcntl.flock(handle, fcntl.LOCK_EX)  # whoever clears up sees that it is being written
        yield temporary
        os.fsync(handle)
        os.fchmod(handle, 0o666 & ~umask())
        os.replace(temporary, path)
        temporary = None
    except OSError as error:
        what = error.strerror or _why_not(handle) or str(error)
        raise OutputError(f"{path}: cannot be written ({what}); nothing half-written was left") from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)
        if handle is not None:
            os.close(handle)


def _why_not(handle: int | None) -> str:
    """Why nothing more can be written to a file, in the system's words, where what writes does not tell."""
    try:
        if handle is not None:
            os.pwrite(handle, bytes(1 << 16), os.fstat(handle).st_size)
    except OSError as error:
        return error.strerror or ""
    return ""


def write_text(path: Path, text: str, force: bool = True) -> None:
    """Write ``text`` as UTF-8 to ``path``, completely or not at all."""
    with atomic(path, force) as temporary:
        temporary.write_text(text, encoding="utf-8", errors="backslashreplace")


def clear_left_over(folder: Path, ours: re.Pattern[str], remove: Callable[[Path], object]) -> None:
    """Take away what runs that were killed left unfinished in a folder, by names and a way to remove it.

    What is locked is being written now, and stays.
    """
    for path in folder.glob(f"{_PREFIX}*"):
        try:
            if not ours.fullmatch(path.name):
                continue
            handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError:
            continue
        with contextlib.suppress(OSError):
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            remove(path)
        os.close(handle)


def umask() -> int:
    """What this process leaves out of the rights of new files; that can only be set, and so is read from the system."""
    found = re.search(r"^Umask:\s*([0-7]+)", Path("/proc/self/status").read_text(), re.MULTILINE)
    return int(found[1], 8) if found else 0o022
