"""The take pool: the takes of a session, and the work on them in the background: looked at, surveyed, searched."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, cast

import msgspec
from PySide6.QtCore import QObject, Signal

from isophon.app.model.jobs import Job
from isophon.core.audio.leak import Leak, Removal
from isophon.core.passes.kind import Span
from isophon.core.reading import path_of, spelled
from isophon.core.render_cache import RenderCache
from isophon.core.session.adopting import Beside
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import span_learning
from isophon.core.takes.take import Absent, Take, open_take
from isophon.core.work.leak_learning import Learned, Lesson
from isophon.core.work.messages import HearBeside, Learn, LearnSpan, Look, Measure, Request
from isophon.core.work.worker import look
from isophon.core.work.workers import Task, Workers

_SOON, _LOOK, _MEASURE = 0.0, 1.0, 2.0
_WORDS: dict[type, str] = {
    Look: "reading", Measure: "analysing", Learn: "finding the leak",
    LearnSpan: "taking the noise from the selected time", HearBeside: "comparing it with the lead",
}  # fmt: skip
TakeWork = Look | Measure | Learn | LearnSpan | HearBeside
EMPTY_SOURCE = Source("", 48_000, 1, 1)


class TakePool(QObject):
    """Takes by their source. ``changed(source)``: more is known of one; ``forgotten(source)``: it will be opened anew;
    ``progressed()``: the work went on."""

    changed = Signal(object)
    forgotten = Signal(object)
    found_again = Signal(object)
    leak_learned = Signal(object, object)
    span_learned = Signal(object, object)
    heard_beside = Signal(object, object)
    beside_failed = Signal(str, str)
    progressed = Signal()
    troubled = Signal(str)
    _answered = Signal(object, str, object)

    def __init__(self, workers: Workers, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.workers = workers
        self._cache = RenderCache()
        self._awaited: dict[Path, str] = {}
        self._takes: dict[Source, Take] = {EMPTY_SOURCE: self._nothing()}
        self._tasks: dict[tuple[type, bool, str, str], Task] = {}
        self._halted: list[tuple[Take, TakeWork, str]] = []  # not asked for anew when the work goes on
        self._sources: dict[Task, Source] = {}
        self._fractions: dict[Task, float] = {}
        self._finished = 0
        self._stopped = self._closed = False
        self._job: Job | None = None
        self._answered.connect(self._answer)

    def take(self, source: Source) -> Take:
        """The take of a source; opened the first time."""
        if source not in self._takes:
            self._takes[source] = open_take(source, self._cache)
            if self._takes[source].trouble and (why := self.awaited(source)):
                self._takes[source].trouble = f"{self._takes[source].recording.path.name}: {why}"
        return self._takes[source]

    def expect(self, paths: Sequence[Path], why: str) -> None:
        """Tell ``why`` recordings are not there yet, instead of calling them missing; none: nothing is expected."""
        self._awaited = dict.fromkeys(paths, why)

    def awaited(self, source: Source) -> str:
        """Why a recording is not there yet; empty where it is not expected."""
        return self._awaited.get(path_of(source.path), "")

    def _nothing(self) -> Take:
        take = open_take(EMPTY_SOURCE, self._cache)
        take.trouble = ""
        return take

    def stock(self, session: Session) -> None:
        """Open what the session names, and have done what is still to be known of it."""
        for item in session.items:
            take = self.take(item.source)
            if take.trouble or self._stopped:
                continue
            if isinstance(item, Part) and item.heard_without:
                take.refresh(item.heard_without)
            if take.wave is None:
                self._submit(take, Look(path=self._path(take)), _LOOK)
            if isinstance(item, Part) and take.surveyed is None:
                self._submit(take, Measure(path=self._path(take)), _MEASURE)

    def at_hand(self, source: Source) -> None:
        """Do first what concerns this source."""
        take = self.take(source)
        self.workers.prefer(lambda task: self._sources.get(task) == source, _SOON)
        if take.wave is None and not take.trouble and not isinstance(take.recording, Absent) and self._job is None:
            # its first picture does not wait until a worker has started
            self._job = Job(lambda progress: look(take.recording.path, progress))
            self._job.done.connect(lambda _: self._refresh(take))
            self._job.start()

    def look_again(self, source: Source, leak: Leak | None = None, removal: Removal | None = None) -> None:
        """Survey and search a take once more, without what leaked into it."""
        take = self.take(source)
        asked = Measure(path=self._path(take), leak=leak, removal=removal or Removal(), again=True)
        self._submit(take, asked, _SOON)

    def learn(self, source: Source, lesson: Lesson) -> None:
        """Learn what leaked into a take; ``leak_learned(source, learned)`` tells."""
        take = self.take(source)
        self._submit(take, Learn(path=self._path(take), lesson=lesson), _SOON)

    def learn_span(self, part: Part, kind: str, span: Span) -> None:
        """Let a kind learn from a span of a part; ``span_learned(request, value)`` tells."""
        asked = LearnSpan(part=part, kind=kind, start=span.start, end=span.end)
        self._submit(self.take(part.source), asked, _SOON, f"{part.id} {kind}")

    def hear_beside(self, source: Source, leads: Sequence[tuple[Source, float]], key: str, part: str) -> None:
        """Find what can only be found in a take beside leads; ``heard_beside(source, found)`` tells.

        ``leads``: each with how much later the take starts, s; ``part``: who asks; of two parts with one recording each
        has its own place, and none puts off the other.
        """
        take, beside = self.take(source), tuple((self._path(self.take(lead)), later_s) for lead, later_s in leads)
        asked = HearBeside(path=self._path(take), leads=beside, key=key, part=part)
        self._submit(take, asked, _MEASURE, part)

    @staticmethod
    def _path(take: Take) -> str:
        return spelled(take.recording.path)

    def _submit(self, take: Take, request: TakeWork, rank: float, asks: str = "") -> None:
        again = isinstance(request, Measure) and request.again
        key = type(request), again, self._path(take), asks
        earlier = self._tasks.get(key)
        if earlier is not None and earlier.request == request:
            return
        task = Task(request, lambda kind, value: self._pass_on(task, kind, value), rank)
        self._tasks[key], self._sources[task] = task, take.source
        self._fractions[task] = 0.0
        if earlier is not None:
            self.workers.cancel([earlier])  # what was asked for last counts
        self.workers.submit(task)
        self.progressed.emit()

    def _pass_on(self, task: Task, kind: str, value: Any) -> None:
        """From a worker's thread to the window's, as long as the window is there."""
        if not self._closed:
            self._answered.emit(task, kind, value)

    def _answer(self, task: Task, kind: str, value: Any) -> None:
        if task not in self._sources:
            return
        if kind == "progress":
            self._fractions[task] = value
            self.progressed.emit()
            return
        source, asked = self._sources.pop(task), task.request
        self._forget(task)
        take = self._takes.get(source)
        if kind == "failed":
            self._failed(source, take, asked, value)
        elif kind == "done":
            self._done(source, take, asked, value)
        self.progressed.emit()

    def _forget(self, task: Task) -> None:
        for key in [key for key, one in self._tasks.items() if one is task]:
            del self._tasks[key]
        del self._fractions[task]
        self._finished = self._finished + 1 if self._tasks else 0

    def _failed(self, source: Source, take: Take | None, asked: Request, value: Any) -> None:
        if isinstance(asked, HearBeside):
            self.beside_failed.emit(asked.part, value)
        elif take is not None:
            # a full disk or a killed worker says nothing about the recording
            if value.how.of_input and not isinstance(asked, Learn | LearnSpan):
                take.trouble = value
            self.troubled.emit(value)
            self.changed.emit(source)

    def _done(self, source: Source, take: Take | None, asked: Request, value: Any) -> None:
        if isinstance(asked, LearnSpan):
            self.span_learned.emit(asked, msgspec.convert(value, span_learning(asked.kind).learned))
        elif take is None:
            return
        elif isinstance(asked, Learn):
            self._cache.clear()
            self.leak_learned.emit(source, msgspec.convert(value, Learned))
        elif isinstance(asked, HearBeside):
            self.heard_beside.emit(source, msgspec.convert(value, Beside))
        else:
            again = isinstance(asked, Measure) and asked.again
            if again:
                take.surveyed = None
            self._refresh(take, value)
            if again:
                self.found_again.emit(source)

    def _refresh(self, take: Take, without: str | None = None) -> None:
        if self._takes.get(take.source) is take:
            take.refresh(without)
            self.changed.emit(take.source)

    # how far it is

    def state(self, source: Source) -> tuple[str, float]:
        """What is being done with a take and how far it is: words, empty when nothing is, and a fraction."""
        mine = [task for task, of in self._sources.items() if of == source]
        if not mine:
            return "", 1.0
        task = max(mine, key=lambda t: self._fractions[t])
        again = isinstance(task.request, Measure) and task.request.again
        words = "finding again" if again else _WORDS[type(task.request)]
        return words if self._fractions[task] else "waiting", self._fractions[task]

    def overall(self) -> tuple[int, int, float]:
        """Tasks done, tasks in all, and a fraction of the whole."""
        total = self._finished + len(self._tasks)
        if not total:
            return 0, 0, 1.0
        return self._finished, total, (self._finished + sum(self._fractions.values())) / total

    @property
    def stopped(self) -> bool:
        """Whether a person stopped the work."""
        return self._stopped

    def stop(self) -> None:
        """Stop what is under way; what is measured stays, and what is not asked for anew is kept in mind."""
        self._stopped = True
        for (kind, again, _, asks), task in self._tasks.items():
            if again or kind in (Learn, LearnSpan, HearBeside):
                self._halted.append((self._takes[self._sources[task]], cast("TakeWork", task.request), asks))
        self.workers.cancel(list(self._tasks.values()))

    def resume(self, session: Session) -> None:
        """Go on with what is still to be known."""
        self._stopped = False
        self.stock(session)
        halted, self._halted = self._halted, []
        for take, request, asks in halted:
            self._submit(take, request, _SOON, asks)

    def forget(self, source: Source, in_use: bool = False) -> None:
        """Open a recording that could not be used anew, next time it is asked for; ``in_use``: one that could, too."""
        if source in self._takes and (in_use or self._takes[source].trouble):
            self._takes.pop(source).recording.close()
            self.forgotten.emit(source)

    def close(self) -> None:
        """Stop all work for this session and close its recordings."""
        self._closed = True
        for task in list(self._tasks.values()):
            self._sources.pop(task, None)
        self.workers.cancel(list(self._tasks.values()))
        if self._job is not None:
            self._job.cancel()
            self._job.wait()
        for take in self._takes.values():
            take.recording.close()
