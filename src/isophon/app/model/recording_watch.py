"""Watching the recordings of a session: one that was missing comes, or another program writes one anew."""

from __future__ import annotations

import os
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from isophon.app.model.workspace import Workspace
from isophon.core.reading import path_of
from isophon.core.session.items import Source

_SETTLED_MS = 400  # a file that is the same after this long is complete

Stamp = tuple[int, int, int]


class RecordingWatch(QObject):
    """Opens recordings that were missing once they are there; ``notice(words)``: others were written anew."""

    notice = Signal(str)

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._files = QFileSystemWatcher(self)
        self._settled = QTimer(self, singleShot=True, interval=_SETTLED_MS)
        self._known: dict[Source, Stamp | None] = {}
        self._seen: dict[Source, Stamp | None] = {}
        self._settled.timeout.connect(self._look)
        self._files.directoryChanged.connect(lambda _path: self._settled.start())
        self._files.fileChanged.connect(lambda _path: self._settled.start())
        workspace.session_changed.connect(self.follow)
        self.follow()

    def follow(self) -> None:
        """Watch the recordings that the session names now."""
        sources = {item.source for item in self._workspace.session.items}
        if sources == set(self._known):
            return
        self._known = {source: self._known.get(source) or _stamp(source) for source in sources}
        self._watch()

    def _watch(self) -> None:
        paths = [path_of(source.path) for source in self._known]
        wanted = {str(path) for path in (*paths, *(path.parent for path in paths)) if os.path.exists(path)}
        watched = {*self._files.files(), *self._files.directories()}
        if watched - wanted:
            self._files.removePaths(list(watched - wanted))
        if wanted - watched:
            self._files.addPaths(list(wanted - watched))

    def _look(self) -> None:
        """Compare each file with how it was; one that still grows is looked at again."""
        now = {source: _stamp(source) for source in self._known}
        growing = any(now[source] not in (known, self._seen.get(source)) for source, known in self._known.items())
        self._seen = now
        if growing:
            self._settled.start()
            return
        new = [source for source, stamp in now.items() if stamp is not None and stamp != self._known[source]]
        self._known |= {source: now[source] for source in new}
        self._watch()  # a file that was replaced is another one to the system
        pool = self._workspace.pool
        came = [source for source in new if pool.take(source).trouble]
        for source in came:
            pool.forget(source)
        if came:
            self._workspace.analysis.restock()
        rewritten = [path_of(source.path).name for source in new if source not in came]
        if rewritten:
            alone = len(rewritten) == 1
            what, it = (f"{rewritten[0]} was", "it") if alone else (f"{len(rewritten)} files were", "each")
            self.notice.emit(f"{what} written anew by another program. Drop {it} on its part to take the new export; "
                             "what you decided is kept.")  # fmt: skip


def _stamp(source: Source) -> Stamp | None:
    """What tells one state of a file from another; None where it is not there."""
    try:
        status = Path(path_of(source.path)).stat()
    except (OSError, ValueError):
        return None
    return status.st_ino, status.st_size, status.st_mtime_ns
