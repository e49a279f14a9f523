"""The demo's other parts, made while one looks at its lead."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from isophon.app.model.jobs import Job
from isophon.app.model.workspace import Workspace
from isophon.core.demo.build import finish_demo, unmade_parts
from isophon.core.demo.cast import demo_folder
from isophon.core.reading import path_of, real

_WHY = "being synthesized"
_NICENESS = 19  # what one looks at comes first


class DemoParts(QObject):
    """Makes what is missing of the demo; nothing where the session is another one. ``failed(words)``: it did not work.

    What is there is opened by :class:`isophon.app.model.recording_watch.RecordingWatch`.
    """

    failed = Signal(str)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._job: Job | None = None
        self._begun = False
        folder = real(demo_folder())
        named = {path_of(item.source.path) for item in workspace.session.items}
        missing = [path for path in unmade_parts(folder) if path in named]
        if missing:
            workspace.pool.expect(missing, _WHY)
            self._job = Job(lambda progress: finish_demo(folder, progress, _NICENESS))
            self._job.failed.connect(self._fail)
            workspace.take_changed.connect(self._begin)

    def _begin(self) -> None:
        """Once the marks of the lead are there, whichever part is selected: until then all cores are for these."""
        found = any(part.found for part in self._workspace.session.parts)
        if self._job is not None and not self._begun and found:
            self._begun = True
            self._job.start()

    def _fail(self, why: str) -> None:
        self._workspace.pool.expect((), "")
        self._workspace.analysis.restock()
        self.failed.emit(why)

    def close(self) -> None:
        """Make no more."""
        if self._job is not None and self._begun:
            self._job.blockSignals(True)
            self._job.cancel()
            self._job.wait()
