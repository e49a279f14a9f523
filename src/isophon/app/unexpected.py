"""Errors that nothing expected: each goes into the log with its cause, and is said in the window in one line."""

from __future__ import annotations

import logging
import time
from types import TracebackType

from PySide6.QtCore import QTimer

from isophon.app.window import Window
from isophon.core.errors import shown
from isophon.core.log import INSIDE, log_path

_log = logging.getLogger(__name__)

_AGAIN_S = 10.0  # the same error is said once in so long: a painted view may raise it with every frame


class Unexpected:
    """Called as ``sys.excepthook``: an error in one place of the window stops no other."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._last, self._said_at = "", 0.0

    def __call__(self, kind: type[BaseException], error: BaseException, _trace: TracebackType | None) -> None:
        """Log an error, and say it where it was not said a moment ago."""
        _log.error(INSIDE, error, exc_info=error)
        what = f"{kind.__name__}: {error}"
        now = time.monotonic()
        again = what == self._last and now - self._said_at < _AGAIN_S
        self._last = what
        if not again:
            self._said_at = now
            words = f"An error inside Isophon ({shown(what)[:200]}): what was asked for last may not be done. " \
                    f"{log_path()} says more."  # fmt: skip
            QTimer.singleShot(0, self._window, lambda: self._window.say_error(words))
