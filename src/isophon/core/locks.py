"""Locks between processes: one window works on one session; they end with the process that holds them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from filelock import FileLock


class Lock:
    """Holds what :func:`lock` took until :meth:`release`; ``held``: None where nothing could be locked."""

    def __init__(self, path: Path, held: FileLock | None) -> None:
        self.path, self._held = path, held

    def release(self) -> None:
        """Let others have it; its empty file stays, since another may wait for it."""
        if self._held is not None:
            self._held.release()
            self._held = None


def lock(path: Path) -> Lock | None:
    """Take the lock that a file of this name stands for; None where another holds it.

    Where no such file can be made (a full or read-only disk) nothing is locked, and work goes on.
    """
    from filelock import FileLock, Timeout  # takes 60 ms, which the first window need not wait for

    held = FileLock(path, mode=0o600, thread_local=False, fallback_to_soft=False)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        held.acquire(blocking=False)
    except Timeout:
        return None
    except OSError:
        return Lock(path, None)
    return Lock(path, held)


def is_locked(path: Path) -> bool:
    """Whether somebody holds a lock."""
    if not path.exists():
        return False
    mine = lock(path)
    if mine is None:
        return True
    mine.release()
    return False
