"""Several recordings at once: one process each, as many as there are cores, and all told in the order of the files."""

from __future__ import annotations

import contextlib
import io
import multiprocessing
import os
import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, wait
from typing import Any, NamedTuple

from isophon.core.lifetime import end_with_parent

Tell = Callable[[float], None]
Work = Callable[[Tell], tuple[dict[str, Any], int]]  # gives a row of the report and an exit status; never raises
Show = Callable[[int, float], None]

_LOOK_S = 0.1
_shared: tuple[Sequence[Work], Any] = ((), None)  # what the forked processes find


class Outcome(NamedTuple):
    """The row of one recording, its exit status, and the lines that were written to standard error about it."""

    row: dict[str, Any]
    status: int
    lines: str


def worked_through(works: Sequence[Work], count: int, show: Show | None = None) -> Iterator[Outcome]:
    """Do all works, ``count`` at a time; their outcomes in order, each as soon as all before it are there.

    ``show(done, fraction)`` is called now and then. Where this is interrupted, all processes end, and what
    they had half-written is cleared away.
    """
    global _shared
    context = multiprocessing.get_context("fork")
    _shared = works, context.Array("d", len(works))
    pool = ProcessPoolExecutor(count, context, _begin, (os.getpid(),))
    futures = [pool.submit(_done, i) for i in range(len(works))]
    try:
        for future in futures:
            while not future.done():
                wait([future], _LOOK_S)
                if show:
                    _show(show, futures)
            yield future.result()
    finally:
        for process in list((pool._processes or {}).values()):
            if not all(f.done() for f in futures):
                process.terminate()
        pool.shutdown(cancel_futures=True)


def _show(show: Show, futures: list[Future[Outcome]]) -> None:
    told = _shared[1]
    show(
        sum(f.done() for f in futures), sum(1.0 if f.done() else told[i] for i, f in enumerate(futures)) / len(futures)
    )


def _begin(parent: int) -> None:
    """In each process: the parent is told to stop, and tells the others; where it is killed, they end too."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    end_with_parent(parent)


def _done(index: int) -> Outcome:
    works, told = _shared

    def tell(fraction: float) -> None:
        told[index] = fraction

    with contextlib.redirect_stderr(io.StringIO()) as lines:
        try:
            row, status = works[index](tell)
        except SystemExit:
            os._exit(1)  # what was half-written is cleared away; the pool would wait for more work
    return Outcome(row, status, lines.getvalue())
