"""A view that glides to another one in a moment, so that the eye can follow."""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtWidgets import QApplication, QStyle

from isophon.app.model.preferences import preferences

View = tuple[float, float]
LONGEST_MS = 120
_STEP_MS = 15


class Glide(QObject):
    """Tells the views between two, the last one exactly; at once where the desktop wants no motion."""

    moved = Signal(float, float)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._from, self._to, self._began, self._takes_s = (0.0, 1.0), (0.0, 1.0), 0.0, 0.0
        self._timer = QTimer(self, interval=_STEP_MS)
        self._timer.timeout.connect(self._step)

    @property
    def target(self) -> View | None:
        """Where it is gliding to, None where it stands still."""
        return self._to if self._timer.isActive() else None

    def begin(self, start: View, to: View) -> None:
        """Glide from a view (s) to another."""
        wanted_ms = QApplication.style().styleHint(QStyle.StyleHint.SH_Widget_Animation_Duration)
        self._from, self._to, self._began = start, to, time.monotonic()
        self._takes_s = min(LONGEST_MS, wanted_ms) / 1000 if preferences().motion else 0.0
        if self._takes_s > 0:
            self._timer.start()
        self._step()

    def stop(self) -> None:
        """Stay where it is."""
        self._timer.stop()

    def _step(self) -> None:
        share = (time.monotonic() - self._began) / self._takes_s if self._takes_s > 0 else 1.0
        if share >= 1:
            self._timer.stop()
            self.moved.emit(*self._to)
            return
        share = 1 - (1 - share) ** 2  # quick at first
        self.moved.emit(*(a + share * (b - a) for a, b in zip(self._from, self._to, strict=True)))
