"""Marks that follow from settings, drawn anew while these are turned: of the selected part first."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QTimer

from isophon.core.session.redrawing import is_due, redrawn

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

_SOON_MS = 20


class Redrawing(QObject):
    """Waits for changes of the session; each part is drawn in a turn of its own."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._soon = QTimer(self, singleShot=True, interval=_SOON_MS)
        self._soon.timeout.connect(self._draw)
        workspace.session_changed.connect(self._ask)
        workspace.take_changed.connect(self._ask)

    def stop(self) -> None:
        """Draw nothing any more."""
        self._soon.stop()

    def _ask(self) -> None:
        if not self._soon.isActive() and any(is_due(part) for part in self._workspace.session.parts):
            self._soon.start()

    def _draw(self) -> None:
        workspace = self._workspace
        first = (workspace.part, *workspace.session.parts)
        for part in (one for one in first if one.id and is_due(one)):
            surveyed = workspace.pool.take(part.source).surveyed
            if surveyed is not None:
                workspace.keeper.adopt([(part.id, redrawn(part, surveyed.survey))])
                return  # the change of the session asks for the next
