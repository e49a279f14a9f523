"""Which marks were played, kept in the session; and how long was listened, so that ears get a rest."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from isophon.app.model.workspace import Workspace

_NOTE_MS = 1_500
_REST_AFTER_S = 20 * 60.0


class PlayedMarks(QObject):
    """``names``: those since they were last kept; ``rest_due``: the ears have worked for long."""

    rest_due = Signal()

    def __init__(self, workspace: Workspace, parent: QObject) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.names: set[str] = set()
        self.listened_s = 0.0
        self._keeping = QTimer(self, singleShot=True, interval=_NOTE_MS)
        self._keeping.timeout.connect(self.keep)

    def follow(self, seconds: float, lasted_s: float) -> None:
        """A second of the selected part is heard, for so long."""
        part = self.workspace.part
        played = {f"{part.id}/{m.id}" for m in self.workspace.marks if m.span[0] <= seconds <= m.span[1]}
        if played - self.names:
            self.names |= played
            self._keeping.start()
        self.listened_s += lasted_s
        if self.listened_s >= _REST_AFTER_S:
            self.listened_s = 0.0
            self.rest_due.emit()

    def keep(self) -> None:
        """Keep in the session what was played."""
        self.workspace.keeper.hear(self.names)
        self.names = set()
