"""Numeric work on all cores at once: transforms and solutions of equations let go of the interpreter."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache
from typing import Any

_most = 0  # 0: no limit of our own


def use(most: int) -> None:
    """Let this process use so many cores at most, where others work beside it; 0: as many as there are."""
    global _most
    _most = most


def cores() -> int:
    """How many cores this process may use."""
    there = len(os.sched_getaffinity(0))
    return min(there, _most) if _most > 0 else there


def at_once(work: Callable[..., Any], *items: Iterable[Any]) -> list[Any]:
    """``work`` done with each of the items, as :func:`map` does, on all cores; an error of one is raised.

    The caller works as well, and others help as far as they are free: work may so be shared out within work.
    """
    jobs = list(zip(*items, strict=True))
    done: list[Any] = [None] * len(jobs)
    turns = iter(range(len(jobs)))

    def share() -> None:
        try:
            for i in turns:
                done[i] = work(*jobs[i])
        except BaseException:
            for _ in turns:  # nothing more is begun
                pass
            raise

    helping = [_helpers().submit(share) for _ in range(min(cores(), len(jobs)) - 1)]
    try:
        share()
    finally:
        for helper in helping:
            if not helper.cancel():
                helper.result()
    return done


@cache
def _helpers() -> ThreadPoolExecutor:
    """Threads that stay: beginning them anew for each call would take longer than many a call."""
    return ThreadPoolExecutor(len(os.sched_getaffinity(0)), thread_name_prefix="helper")


def ahead(work: Callable[..., Any], items: Iterable[Any]) -> Iterator[Any]:
    """``work`` done with each of the items, in their order, on all cores and as many items ahead as there are cores."""
    pool = ThreadPoolExecutor(cores())
    waiting: deque[Future] = deque()
    try:
        for item in items:
            waiting.append(pool.submit(work, item))
            if len(waiting) > cores():
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(cancel_futures=True)
