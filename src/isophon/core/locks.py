"""Locks between processes: one window works on one session; they end with the process that holds them."""

from __future__ import annotations

import contextlib
import fcntl
import os
from pathlib import Path


class Lock:
    """Holds what :func:`lock` took until :meth:`release`."""

    def __init__(self, path: Path, handle: int | None) -> None:
        self.path, self._handle = path, handle

    def release(self) -> None:
        """Let others have it."""
        if self._handle is not None:
            with contextlib.suppress(OSError):
                self.path.unlink()
            os.close(self._handle)
            self._handle = None


def lock(path: Path) -> Lock | None:
    """Take the lock that a file of this name stands for; None where another holds it.

    Where no such file can be made (a full or read-only disk) nothing is locked, and work goes on.
    """
    while True:
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        except OSError:
            return Lock(path, None)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(handle)
            return None
        if _same(handle, path):
            return Lock(path, handle)
        os.close(handle)  # its last holder took the file away in between


def is_locked(path: Path) -> bool:
    """Whether somebody holds a lock."""
    if not path.exists():
        return False
    mine = lock(path)
    if mine is None:
        return True
    mine.release()
    return False


def _same(handle: int, path: Path) -> bool:
    try:
        one, other = os.fstat(handle), path.stat()
    except OSError:
        return False
    return (one.st_dev, one.st_ino) == (other.st_dev, other.st_ino)
