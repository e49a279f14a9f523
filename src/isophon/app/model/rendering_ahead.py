"""Rendering ahead: while nothing is edited, whole parts are rendered in the background and kept on disk.

Playing and handing over then read. One part at a time, so that a worker stays free for what a person asks for; the
part in hand first, then the others that sound.
"""

from __future__ import annotations

from typing import Any

import msgspec
from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app.model.workspace import Workspace
from isophon.core.render import Plan
from isophon.core.session.model import Part, Source
from isophon.core.work.workers import Task

_QUIET_MS = 1_500  # without an edit, before rendering begins
_LAST = 3.0  # everything else comes first


class RenderingAhead(QObject):
    """Watches the workspace; what is rendered stands in the takes' renderers. ``rendered(source, plan)`` tells."""

    rendered = Signal(object, object)
    _answered = Signal(object, str)

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self._workspace, self._pool = workspace, workspace.pool
        self._task: tuple[Task, Part] | None = None
        self._given_up: set[Part] = set()
        self._told: dict[Source, Plan] = {}
        self._answered.connect(self._answer)
        self._quiet = QTimer(self, singleShot=True, interval=_QUIET_MS)
        self._quiet.timeout.connect(self._next)
        workspace.session_changed.connect(self._quiet.start)
        workspace.take_changed.connect(self._quiet.start)
        self._quiet.start()

    def _next(self) -> None:
        if self._task is not None or self._pool.stopped:
            return
        first_of = {part.source: part for part in reversed(self._in_order())}  # one rendering a recording is kept
        for part in reversed(first_of.values()):
            take = self._pool.take(part.source)
            nothing = not part.plan or not part.found or bool(take.trouble)
            if nothing or part in self._given_up or self._is_rendered(part):
                continue
            self._submit(part)
            return

    def _submit(self, part: Part) -> None:
        request: dict[str, Any] = {"do": "render", "part": msgspec.to_builtins(part)}
        task = Task(request, lambda kind, value: self._task and self._answered.emit(task, kind), _LAST)
        self._task = task, part
        self._pool.workers.submit(task)

    def _in_order(self) -> list[Part]:
        hand = self._workspace.parts_in_hand
        return sorted(self._workspace.session.parts, key=lambda p: (p.id not in hand, p.listening.muted))

    def _answer(self, task: Task, kind: str) -> None:
        if self._task is None or task is not self._task[0] or kind == "progress":
            return
        part, self._task = self._task[1], None
        if kind == "done":
            self._is_rendered(part)
        else:
            self._given_up.add(part)  # a full disk, say; playing renders as it goes
        if not self._quiet.isActive():
            self._next()

    def _is_rendered(self, part: Part) -> bool:
        rendered = self._pool.take(part.source).rendered(part.plan)
        if rendered and self._told.get(part.source) is not part.plan:
            self._told[part.source] = part.plan
            self.rendered.emit(part.source, part.plan)
        return rendered

    def close(self) -> None:
        """Give up what is under way."""
        self._quiet.stop()
        if self._task is not None:
            self._pool.workers.cancel([self._task[0]])
            self._task = None
