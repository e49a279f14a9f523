"""Errors that nothing expected: each goes into the log with its cause, and is said in the window in one line."""

from __future__ import annotations

import logging
from types import TracebackType

from PySide6.QtCore import QTimer

from isophon.app.window import Window
from isophon.core.errors import shown
from isophon.core.log import INSIDE, log_path

_log = logging.getLogger(__name__)


class Unexpected:
    """Called as ``sys.excepthook``: an error in one place of the window stops no other."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._last = ""

    def __call__(self, kind: type[BaseException], error: BaseException, _trace: TracebackType | None) -> None:
        """Log an error, and say it where it is not what was said last."""
        _log.error(INSIDE, error, exc_info=error)
        what = f"{kind.__name__}: {error}"
        if what != self._last:
            self._last = what
            words = f"An error inside Isophon ({shown(what)[:200]}). Nothing was lost; {log_path()} says more."
            QTimer.singleShot(0, self._window, lambda: self._window.say_error(words))
