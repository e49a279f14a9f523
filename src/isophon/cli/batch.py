"""Several recordings at once: one worker each, as many as there are cores; reported in the order of the files."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

from isophon.core.errors import IsophonError
from isophon.core.forking import fork_here
from isophon.core.reading import spelled
from isophon.core.work.cleaning import Cleaned, clean_file, clean_part
from isophon.core.work.messages import CleanFile, Failed, HandOver, Measure
from isophon.core.work.worker import serve
from isophon.core.work.workers import Task, Workers

Work = CleanFile | HandOver
Step = Callable[[str, float], None]
Show = Callable[[int, float], None]

_LOOK_S = 0.1


class Outcome(NamedTuple):
    """What became of a recording: its stem, or why there is none."""

    cleaned: Cleaned | None
    failed: Failed | None = None


def one_by_one(works: Sequence[Work], step: Callable[[Work], Step]) -> Iterator[Outcome]:
    """Do works in this process, each as it is asked for; ``step(work)``: what is called with how far each is."""
    for work in works:
        try:
            yield Outcome(_done(work, step(work)))
        except IsophonError as error:
            yield Outcome(None, Failed.of(error))


def _done(work: Work, tell: Step) -> Cleaned:
    match work:
        case CleanFile():
            return clean_file(work.asked, work.target, tell)
        case HandOver():
            return clean_part(work.session, work.part, work.target, tell, work.kinds, work.keep)


def at_once(
    works: Sequence[Work], count: int, show: Show | None = None, leads: Sequence[Path] = ()
) -> Iterator[Outcome]:
    """Do all works, ``count`` at a time; their outcomes in order, each as soon as all before it are there.

    ``show(done, fraction)`` is called now and then. ``leads``: what all meet; they are looked through first.
    Where this is interrupted, all processes end, and what they had half-written is cleared away.
    """
    workers = Workers(count, fork_here(count, serve))
    there = threading.Condition()
    fractions = [0.0] * len(works)
    outcomes: list[Outcome | None] = [None] * len(works)

    def take_answer(index: int, what: str, value: Any) -> None:
        with there:
            if what == "progress":
                fractions[index] = value
                return
            fractions[index] = 1.0
            outcomes[index] = Outcome(Cleaned(**value)) if what == "done" else Outcome(None, value.how)
            there.notify()

    try:
        for lead in leads:
            _measure_first(workers, lead)
        for index, work in enumerate(works):
            workers.submit(Task(work, partial(take_answer, index)))
        for index in range(len(works)):
            yield _awaited(there, outcomes, fractions, index, show)
    finally:
        workers.close()


def _measure_first(workers: Workers, path: Path) -> None:
    """Look a recording through before all else; where that fails, whoever needs it says so."""
    ended = threading.Event()

    def take_answer(what: str, _value: Any) -> None:
        if what != "progress":
            ended.set()

    workers.submit(Task(Measure(path=spelled(path)), take_answer))
    ended.wait()


def _awaited(there: threading.Condition, outcomes: list[Outcome | None], fractions: list[float], index: int,
             show: Show | None) -> Outcome:  # fmt: skip
    while True:
        with there:
            there.wait_for(lambda: outcomes[index] is not None, _LOOK_S)
            outcome, done, fraction = outcomes[index], fractions.count(1.0), sum(fractions) / len(fractions)
        if show:
            show(done, fraction)
        if outcome is not None:
            return outcome
