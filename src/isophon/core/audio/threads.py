"""Numeric work on all cores at once: transforms and solutions of equations let go of the interpreter."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Any


def cores() -> int:
    """How many cores this process may use."""
    return len(os.sched_getaffinity(0))


def at_once(work: Callable[..., Any], *items: Iterable[Any]) -> list[Any]:
    """``work`` done with each of the items, as :func:`map` does, on all cores; an error of one is raised."""
    with ThreadPoolExecutor(cores()) as pool:
        return list(pool.map(work, *items))
