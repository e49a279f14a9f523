"""A new export in place of a recording of the session, found in the background where its sound lies."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from PySide6.QtCore import QObject

from isophon.app.model.jobs import Job
from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.finding import survey_recording
from isophon.core.reading import path_of, real
from isophon.core.session import layout
from isophon.core.session.items import Source
from isophon.core.session.replacing import later_by, replaced
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

_SAME_PLACE_S = 0.0005


class NewExport(NamedTuple):
    """A file that takes the place of another. ``later_s``: see :func:`later_by`."""

    source: Source
    later_s: float | None


class Replacing(QObject):
    """Lets items of the session name new exports, one at a time."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._job: Job | None = None

    def begin(self, item_id: str, path: Path) -> None:
        """Look where the sound of an item lies in a file, then let the item name that file."""
        workspace, path = self._workspace, real(path)
        item = workspace.session.item(item_id)
        taken = [i.name for i in workspace.session.items if i.id != item_id and real(path_of(i.source.path)) == path]
        if taken:
            workspace.notice.emit(f"That file is in the session already, as {taken[0]}; nothing was replaced.")
            return
        if self._job is not None:
            workspace.notice.emit("Another export is being compared; drop this one again in a moment.")
            return
        workspace.notice.emit(f"Comparing {path.name} with {item.name}")
        known = workspace.pool.take(item.source).surveyed
        survey = known.survey if known is not None else None
        self._job = Job(lambda _progress: compared(item.source, survey, path))
        self._job.done.connect(lambda export: self._take(item_id, item.source, export))
        self._job.failed.connect(self._fail)
        self._job.start()

    def _take(self, item_id: str, before: Source, export: NewExport) -> None:
        self._job = None
        workspace, source = self._workspace, export.source
        if all(item.id != item_id or item.source != before for item in workspace.session.items):
            return  # it was removed or replaced meanwhile
        name = workspace.session.item(item_id).name
        result = replaced(workspace.session, item_id, source, export.later_s or 0.0)
        workspace.pool.forget(source, in_use=True)
        workspace.edit(f"replace {name}", lambda _session: result.session)
        workspace.analysis.restock()
        workspace.notice.emit(_words(name, export.later_s) + _lost_words(result.lost))

    def _fail(self, why: str) -> None:
        self._job = None
        self._workspace.troubled.emit(f"{why}; nothing was replaced")

    def close(self) -> None:
        """Leave what is being compared."""
        if self._job is not None:
            self._job.blockSignals(True)
            self._job.wait()


def compared(before: Source, surveyed: Survey | None, path: Path) -> NewExport:
    """A new export and where in it the sound of a recording lies.

    ``surveyed``: what was measured of the recording as it was; None: it is measured now. InputError where the new file
    cannot be read.
    """
    with Recording(path) as new:
        source = layout.source_of(new)
        old = None if path_of(before.path) == path else _opened(before)
        try:
            if surveyed is None and old is not None:
                surveyed = survey_recording(old)
            if surveyed is None:
                return NewExport(source, None)
            return NewExport(source, later_by(surveyed, survey_recording(new), old, new))
        finally:
            if old is not None:
                old.close()


def _opened(source: Source) -> Recording | None:
    try:
        return Recording(path_of(source.path))
    except InputError:
        return None


def _words(name: str, later_s: float | None) -> str:
    if later_s is None:
        return f"{name} is another recording now; what you decided stays at its times, and marks are found again."
    if abs(later_s) < _SAME_PLACE_S:
        return f"{name} was replaced; what you decided is kept, and marks are found again."
    order = "later" if later_s > 0 else "earlier"
    return (f"{name} was replaced: its sound comes {abs(later_s):.3f} s {order} in this file, and what you decided was "
            "moved along.")  # fmt: skip


def _lost_words(count: int) -> str:
    if not count:
        return ""
    lie, are = ("marks lie", "are") if count > 1 else ("mark lies", "is")
    return f" {count} decided {lie} outside of it and {are} left out."
