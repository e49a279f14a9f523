"""The stillness beside the transport, measured part by part, each in a turn of the window's own: it takes a while."""

from __future__ import annotations

from collections.abc import Callable, Generator

from PySide6.QtCore import QObject, QTimer

from isophon.app.model.workspace import Stillness, Workspace

_BETWEEN_MS = 8


class StillnessSteps(QTimer):
    """Measures when it is asked, once more where it was asked meanwhile; ``show`` gets what was found."""

    def __init__(self, workspace: Workspace, show: Callable[..., None], parent: QObject) -> None:
        super().__init__(parent, singleShot=True, interval=_BETWEEN_MS)
        self._workspace, self._show = workspace, show
        self._steps: Generator[None, None, Stillness] | None = None
        self._changed_since = False  # since they began
        self.timeout.connect(self._go_on)

    def ask(self) -> None:
        """Measure soon."""
        self._changed_since = True
        if not self.isActive():
            self.start()

    def _go_on(self) -> None:
        if self._steps is None:
            self._steps, self._changed_since = self._workspace.stillness(), False
        try:
            next(self._steps)
        except StopIteration as end:
            self._steps = None
            self._show(*end.value)
        if self._steps is not None or self._changed_since:
            self.start()
