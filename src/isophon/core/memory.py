"""Memory that is not needed any more goes back to the system at once.

The GNU allocator keeps what was freed, in an arena a thread and below what is still in use, for the next request; after
work on whole takes that is most of what a process holds. Long sounds are mapped on their own instead, and
all threads share one arena (mallopt(3)). Also where Python's own collector may not work.
"""

from __future__ import annotations

import contextlib
import ctypes
import gc
from collections.abc import Iterator

_TRIM, _MAPPED, _ARENAS = -1, -3, -8  # malloc.h: M_TRIM_THRESHOLD, M_MMAP_THRESHOLD, M_ARENA_MAX
_FROM_BYTES = 30_000_000  # from this size on memory is mapped, and given back at once
_KEPT_BYTES = 64_000_000  # free memory that is not given back


def give_back() -> None:
    """Have the allocator do so from now on; nothing happens where it is another."""
    with contextlib.suppress(OSError, AttributeError):
        libc = ctypes.CDLL(None)
        for what, value in ((_ARENAS, 1), (_MAPPED, _FROM_BYTES), (_TRIM, _KEPT_BYTES)):
            libc.mallopt(what, value)


def trim() -> None:
    """Give back what is held now, after work that is done."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


@contextlib.contextmanager
def uncollected() -> Iterator[None]:
    """Keep Python's collector from looking through what is made within, which halts all threads, longer and longer.

    What is there at the end is never looked through, until :func:`gc.unfreeze`.
    """
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.enable()
