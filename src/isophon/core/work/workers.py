"""The workers: worker processes that do long work side by side, what matters most first."""

from __future__ import annotations

import logging
import os
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import count
from typing import Any

import msgspec

from isophon.core.audio.threads import cores
from isophon.core.forking import WORKER, Child, forker
from isophon.core.log import INSIDE
from isophon.core.work.messages import Done, Failed, Progress, Request, Wake, decode_reply, encode

_log = logging.getLogger(__name__)

WORKER_COUNT = min(2, os.cpu_count() or 1)


class Failure(str):
    """Why a task failed, in words; ``how``: what the worker reported."""

    how: Failed

    def __new__(cls, how: Failed) -> Failure:
        failure = super().__new__(cls, how.words)
        failure.how = how
        return failure


@dataclass(eq=False)
class Task:
    """One request to a worker (see :mod:`.worker`), and whom to tell; the calls come from the workers' threads.

    ``rank``: what is lower is done first. ``told(what, value)`` is called with
    ``"progress"`` and a fraction, then once with ``"done"``, ``"failed"`` (and a :class:`Failure`) or ``"cancelled"``.
    """

    request: Request
    on_answer: Callable[[str, Any], None]
    rank: float = 0.0
    order: int = field(default_factory=count().__next__)
    cancelled: bool = False


class Workers:
    """Up to ``hands`` processes, started when there is work for them; ``ready``: such as are there already."""

    def __init__(self, hands: int = WORKER_COUNT, ready: Sequence[Child] = ()) -> None:
        self._ready = ready
        self._waiting: list[Task] = []
        self._work = threading.Condition()
        self._closed = False
        self._running: dict[int, tuple[Task, Child | None]] = {}
        self._starting: set[threading.Thread] = set()
        self._threads: list[threading.Thread] = []
        self._hands = hands

    def submit(self, task: Task) -> None:
        """Take a task on."""
        with self._work:
            self._waiting.append(task)
            busy = len(self._running)
            if len(self._threads) < self._hands and len(self._waiting) + busy > len(self._threads):
                name = f"workers {len(self._threads)}"
                thread = threading.Thread(target=self._serve, args=(len(self._threads),), name=name, daemon=True)
                self._threads.append(thread)
                thread.start()
            self._work.notify()

    def wake(self) -> None:
        """Start all workers before there is work for them."""
        for _ in range(self._hands):
            self.submit(Task(Wake(), lambda _what, _value: None))

    def prefer(self, wanted: Callable[[Task], bool], rank: float) -> None:
        """Give waiting tasks another rank."""
        with self._work:
            for task in self._waiting:
                if wanted(task):
                    task.rank = min(task.rank, rank)

    def cancel(self, tasks: list[Task]) -> None:
        """Stop tasks, waiting or under way; each is notified."""
        with self._work:
            waiting = [task for task in tasks if task in self._waiting]
            self._waiting = [task for task in self._waiting if task not in tasks]
            for task, process in self._running.values():
                if task in tasks:
                    task.cancelled = True
                    if process:
                        process.terminate()
        for task in waiting:
            _tell(task, "cancelled", None)

    def close(self) -> None:
        """End all work; a process that is still starting is not waited for, it ends with this one."""
        with self._work:
            self._closed, self._waiting = True, []
            processes = [process for _, process in self._running.values() if process]
            ending = [thread for thread in self._threads if thread not in self._starting]
            self._work.notify_all()
        for process in processes:
            process.terminate()
        for thread in ending:
            thread.join(timeout=5.0)

    def _serve(self, number: int) -> None:
        process = self._ready[number] if number < len(self._ready) else None
        while True:
            with self._work:
                self._work.wait_for(lambda: self._closed or self._waiting)
                if self._closed:
                    break
                task = min(self._waiting, key=lambda t: (t.rank, t.order))
                self._waiting.remove(task)
                self._running[number] = (task, process)
                busy = len(self._running) + len(self._waiting)
            if process is None or process.poll() is not None:
                process = self._started(number, task)
            request = msgspec.structs.replace(task.request, cores=max(1, cores() // min(busy, self._hands)))
            what, value = self._answer(process, task, request)
            with self._work:
                del self._running[number]
            _tell(task, what, value)
        if process is not None:
            process.stdin.close()
            process.wait()

    def _started(self, number: int, task: Task) -> Child | None:
        """A new process for a worker; nothing else waits while it starts."""
        thread = threading.current_thread()
        with self._work:
            self._starting.add(thread)
        process = _start(number == 0)
        with self._work:
            self._starting.discard(thread)
            self._running[number] = (task, process)
        return process

    def _answer(self, process: Child | None, task: Task, request: Request) -> tuple[str, Any]:
        """What became of a task, and its value."""
        if task.cancelled or self._closed:  # while its process started
            return "cancelled", None
        try:
            what, value = ("lost", None) if process is None else _ask(process, task, request)
        except Exception as error:  # noqa: BLE001 (whatever it is, the tasks behind it go on)
            _log.error(INSIDE, error, exc_info=error)
            words = f"an error inside Isophon stopped this ({error}); nothing was lost"
            return "failed", Failure(Failed(words))
        if what != "lost":
            return what, value
        if process is not None:
            process.wait()
        words = "the process that worked on it ended; there may be too little memory. Try again"
        return "cancelled" if task.cancelled or self._closed else "failed", Failure(Failed(words))


def _start(first: bool) -> Child | None:
    """A new worker, None where none can be started.

    ``first``: it has its share of the cores however busy they are, for what is looked at.
    """
    try:
        return forker().start(WORKER, ["first"][: int(first)])
    except OSError as error:
        _log.error(INSIDE, error, exc_info=error)
        return None


def _ask(process: Child, task: Task, request: Request) -> tuple[str, Any]:
    """Send a request and pass on the progress; the last answer, or ``lost`` if the process ended."""
    try:
        process.stdin.write(encode(request))
        process.stdin.flush()
    except OSError:
        return "lost", None
    for line in process.stdout:
        try:
            reply = decode_reply(line)
        except msgspec.MsgspecError as error:
            _log.error(INSIDE, error, exc_info=error)
            process.kill()  # what it says is not to be understood any more
            return "lost", None
        match reply:
            case Progress():
                _tell(task, "progress", reply.fraction)
            case Failed():
                return "failed", Failure(reply)
            case Done():
                return "done", reply.value
    return "lost", None


def _tell(task: Task, what: str, value: Any) -> None:
    """Tell whoever waits for a task; that it is not there any more ends no worker."""
    try:
        task.on_answer(what, value)
    except Exception as error:  # noqa: BLE001 (one task must not end the others)
        _log.error(INSIDE, error, exc_info=error)
