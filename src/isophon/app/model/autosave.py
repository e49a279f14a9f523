"""Saving by itself, every few minutes, where a person prefers that; the journal keeps every step either way."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from isophon.app.model.preferences import preferences
from isophon.app.model.session_keeper import SessionKeeper

_LOOK_MS = 5_000


class AutoSave(QObject):
    """Saves a session that has a file and is not saved, once the preferred time has gone by since it was."""

    def __init__(self, keeper: SessionKeeper, now: Callable[[], float]) -> None:
        """``now()``: seconds on a clock that only goes on."""
        super().__init__(keeper)
        self._keeper, self._now = keeper, now
        self._since = now()
        keeper.saved.connect(self._begin_anew)
        self._timer = QTimer(self, interval=_LOOK_MS)
        self._timer.timeout.connect(self.look)
        self._timer.start()

    def _begin_anew(self) -> None:
        self._since = self._now()

    def look(self) -> None:
        """Save where it is due."""
        every_min, keeper = preferences().save_every_min, self._keeper
        if not keeper.unsaved:
            self._begin_anew()
        elif every_min and keeper.saved_as is not None and self._now() - self._since >= 60 * every_min:
            self._begin_anew()
            if keeper.is_as_left():  # what something else wrote there is written over by a hand alone
                keeper.save(keeper.saved_as)
