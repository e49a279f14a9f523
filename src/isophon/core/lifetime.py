"""Processes that end with the one that started them, however that ended."""

from __future__ import annotations

import ctypes
import os
import signal

_PR_SET_PDEATHSIG = 1  # linux/prctl.h


def end_with_parent(parent: int) -> None:
    """Have this process get SIGTERM once its ``parent`` (a process id) has ended; at once where it has already.

    Where the system cannot do that (it is not Linux), nothing happens.
    """
    try:
        ctypes.CDLL(None, use_errno=True).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
    except (OSError, AttributeError):
        return
    if os.getppid() != parent:
        os.kill(os.getpid(), signal.SIGTERM)
