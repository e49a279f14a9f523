"""Rendering ahead: what the slow stages leave of the parts is rendered in the background and kept on disk.

Playing, the pictures and handing over then read that. One part at a time, so that a worker stays free for what a person
asks for; the selected parts first, from where it is heard on, then the others that sound.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app.model.workspace import Workspace
from isophon.core.heads import head_of
from isophon.core.session.model import Part
from isophon.core.staging import Plan
from isophon.core.work.messages import RenderAhead
from isophon.core.work.workers import Task

_QUIET_MS = 400  # without an edit, before rendering begins
_LAST = 3.0  # everything else comes first


class RenderingAhead(QObject):
    """Watches the workspace. ``heard_at()``: what is heard now, in s of the selected part."""

    _answered = Signal(object, str)

    def __init__(self, workspace: Workspace, heard_at: Callable[[], float], parent: QObject) -> None:
        super().__init__(parent)
        self._workspace, self._pool, self._heard_at = workspace, workspace.pool, heard_at
        self._task: tuple[Task, Part, Plan] | None = None
        self._done: dict[str, Plan] = {}  # by part: what its slow stages do; tried, even where that failed
        self._answered.connect(self._answer)
        self._quiet = QTimer(self, singleShot=True, interval=_QUIET_MS)
        self._quiet.timeout.connect(self._next)
        workspace.session_changed.connect(self._quiet.start)
        workspace.take_changed.connect(self._quiet.start)
        self._quiet.start()

    @property
    def done(self) -> bool:
        """Whether nothing is left to be rendered ahead."""
        return self._task is None and not any(self._is_wanted(part) for part in self._workspace.session.parts)

    def _is_wanted(self, part: Part) -> bool:
        head = head_of(part.plan) if part.found else ()
        return bool(head) and not self._pool.take(part.source).trouble and self._done.get(part.id) != head

    def _next(self) -> None:
        if self._pool.stopped:
            return
        hand = self._workspace.selected_parts
        wanted = [part for part in self._workspace.session.parts if self._is_wanted(part)]
        if not wanted:
            return
        first = min(wanted, key=lambda p: (p.id not in hand, p.listening.muted))
        if self._task is not None:
            if self._task[1].id == first.id and self._task[2] != head_of(first.plan):
                self._give_up()
            else:
                return
        self._submit(first)

    def _submit(self, part: Part) -> None:
        later = self._workspace.part.offset_s - part.offset_s if self._workspace.part.id else 0.0
        at = max(0.0, self._heard_at() + later)
        request = RenderAhead(part=part, at=at)
        task = Task(request, lambda kind, _value: self._take_answer(task, kind), _LAST)
        self._task = task, part, head_of(part.plan)
        self._pool.workers.submit(task)

    def _take_answer(self, task: Task, kind: str) -> None:
        """From a worker's thread to the window's."""
        if self._task:
            self._answered.emit(task, kind)

    def _answer(self, task: Task, kind: str) -> None:
        if self._task is None or task is not self._task[0] or kind == "progress":
            return
        part, head = self._task[1:]
        self._task = None
        if kind != "cancelled":
            self._done[part.id] = head
        if not self._quiet.isActive():
            self._next()

    def _give_up(self) -> None:
        if self._task is not None:
            task, self._task = self._task[0], None
            self._pool.workers.cancel([task])

    def close(self) -> None:
        """Give up what is under way."""
        self._quiet.stop()
        self._give_up()
