"""What a window remembers from one start to the next: its shape, how sessions were left, the sessions opened last."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QByteArray
from PySide6.QtWidgets import QMainWindow

if TYPE_CHECKING:
    from isophon.app.model.remembered import Remembered

_SESSIONS, _SHAPE = "sessions", "window"
_RECENT, _MOST_BYTES = 8, 1 << 20


class WindowState:
    """``values``: texts by name. Where they cannot be read or kept, no work is harmed."""

    def __init__(self) -> None:
        self.values: dict[str, str] = {}
        self._last: Path | None = None

    def recall(self, window: QMainWindow) -> None:
        """Read them, and let the window be as it was when it was closed last."""
        from isophon.app.model.state import state_folder
        from isophon.core.errors import IsophonError
        from isophon.core.reading import read_bytes

        with contextlib.suppress(IsophonError, ValueError, RecursionError):
            values = json.loads(read_bytes(state_folder() / "window.json", _MOST_BYTES))
            if isinstance(values, dict):
                self.values = {key: value for key, value in values.items() if isinstance(value, str)}
            window.restoreGeometry(QByteArray.fromHex(self.values.get(_SHAPE, "").encode("ascii", "replace")))

    def keep(self, window: QMainWindow) -> None:
        """Write them, with the shape of the window."""
        from isophon.app.model.state import state_folder
        from isophon.core.atomic import write_text
        from isophon.core.errors import IsophonError

        self.values[_SHAPE] = bytes(window.saveGeometry().toHex().data()).decode()
        with contextlib.suppress(IsophonError):
            write_text(state_folder() / "window.json", json.dumps(self.values))

    def session_left(self, path: Path, how: Remembered) -> None:
        """Remember how a session was left."""
        from isophon.app.model.remembered import remember

        self.values[_SESSIONS] = remember(self.values.get(_SESSIONS, ""), path, how)

    def how_left(self, path: Path | None) -> Remembered | None:
        """How a session was left; one that is not saved yet begins as all do."""
        from isophon.app.model.remembered import Remembered, recall

        return recall(self.values.get(_SESSIONS, ""), path) or (Remembered() if path is None else None)

    def session_saved(self, path: Path) -> None:
        """Put a session first among those that were opened last."""
        from isophon.app.model.state import recent_sessions, state_folder
        from isophon.core.atomic import write_text
        from isophon.core.errors import IsophonError
        from isophon.core.reading import spelled

        if path == self._last:
            return
        self._last = path
        paths = [spelled(p) for p in dict.fromkeys([path, *recent_sessions()])][:_RECENT]
        with contextlib.suppress(IsophonError):
            write_text(state_folder() / "recent.json", json.dumps(paths))
