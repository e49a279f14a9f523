"""A session collected in a folder, beside the work: asked for, under way, done or given up."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QProgressDialog, QWidget

from isophon.app.model.jobs import Job
from isophon.app.model.workspace import Workspace
from isophon.app.views.file_dialog import folder_to_use
from isophon.core.handover.collecting import collect

_SHOWN_MS = 300


def collect_session(workspace: Workspace, parent: QWidget) -> None:
    """Ask for a folder, and copy the session and its recordings into one of its name in there."""
    keeper = workspace.keeper
    name = keeper.saved_as.stem if keeper.saved_as else workspace.session.name
    start = keeper.saved_as.parent if keeper.saved_as else None
    chosen = folder_to_use(parent, "Collect in a folder", start)
    if chosen is not None:
        _copy(workspace, name, chosen / (name or "session").replace("/", "_"), parent)


def _copy(workspace: Workspace, name: str, folder: Path, parent: QWidget) -> None:
    progress = QProgressDialog("Copying the recordings", "Cancel", 0, 1000, parent)
    progress.setWindowModality(Qt.WindowModality.NonModal)
    progress.setMinimumDuration(_SHOWN_MS)
    job = Job(partial(collect, workspace.session, name, folder))
    progress.canceled.connect(job.cancel)
    job.progressed.connect(lambda share: progress.setValue(round(1000 * share)))

    def end(words: str, trouble: bool = False) -> None:
        progress.canceled.disconnect()
        progress.close()
        progress.deleteLater()
        (workspace.troubled if trouble else workspace.notice).emit(words)

    job.done.connect(lambda path: end(f"Collected as {path}. What is open here is still the session you worked on."))
    job.failed.connect(lambda words: end(words, True))
    job.cancelled.connect(lambda: end("Nothing was collected."))
    job.start()
