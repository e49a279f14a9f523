"""A session collected in a folder, beside the work: asked for, under way, done or given up."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QProgressDialog, QWidget

from isophon.app.model.jobs import Job
from isophon.app.model.workspace import Workspace
from isophon.app.views.file_dialog import folder_to_use
from isophon.core.handover.collecting import collect, plain_name

_SHOWN_MS, _STEPS = 300, 1_000


class Collecting(QObject):
    """Copies the session that is open, one time after the other."""

    def __init__(self, workspace: Workspace, page: QWidget) -> None:
        super().__init__(page)
        self._workspace, self._page = workspace, page
        self._job: Job | None = None
        self._dialog: QProgressDialog | None = None

    def begin(self) -> None:
        """Ask for a folder, and copy the session and its recordings into one of its name in there."""
        keeper = self._workspace.keeper
        name = keeper.saved_as.stem if keeper.saved_as else self._workspace.session.name
        start = keeper.saved_as.parent if keeper.saved_as else None
        title = "Copy the session with its recordings into"
        chosen = folder_to_use(self._page, title, start) if self._job is None else None
        if chosen is not None:
            self._copy(name, chosen / plain_name(name))

    def _copy(self, name: str, folder: Path) -> None:
        self._dialog = QProgressDialog("Copying the recordings", "Cancel", 0, _STEPS, self._page)
        self._dialog.setWindowModality(Qt.WindowModality.NonModal)
        self._dialog.setMinimumDuration(_SHOWN_MS)
        self._job = Job(partial(collect, self._workspace.session, name, folder))
        self._dialog.canceled.connect(self._job.cancel)
        self._job.progressed.connect(self._show)
        self._job.done.connect(self._done)
        self._job.failed.connect(self._failed)
        self._job.cancelled.connect(self._cancelled)
        self._job.start()

    def _show(self, share: float) -> None:
        if self._dialog is not None and share < 1:
            self._dialog.setValue(round(_STEPS * share))

    def _done(self, path: Path) -> None:
        self._end()
        self._workspace.notice.emit(f"Copied as {path}. What is open here is still the session you worked on.")

    def _failed(self, words: str) -> None:
        self._end()
        self._workspace.troubled.emit(words)

    def _cancelled(self) -> None:
        self._end()
        self._workspace.notice.emit("Nothing was copied, and nothing was left behind.")

    def _end(self) -> None:
        if self._dialog is not None:
            self._dialog.deleteLater()
        self._job = self._dialog = None
