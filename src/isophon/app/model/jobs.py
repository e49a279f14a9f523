"""Long work in a thread, with progress and cancel; results arrive in the window's thread."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from isophon.core.errors import Cancelled, IsophonError
from isophon.core.log import INSIDE

_log = logging.getLogger(__name__)


class Job(QObject):
    """Runs ``work(progress)`` in a thread. ``progress(fraction)`` raises Cancelled after :meth:`cancel`.

    Signals: ``progressed(float)``; then one of ``done(object)``, ``failed(str)``, ``cancelled()``. It has no parent and
    lives until its thread ends: a thread that tells something that is just being deleted can end the program.
    """

    progressed = Signal(float)
    done = Signal(object)
    failed = Signal(str)
    cancelled = Signal()

    def __init__(self, work: Callable[[Callable[[float], None]], Any]) -> None:
        super().__init__()
        self._work = work
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def cancel(self) -> None:
        """Ask the work to stop at its next step."""
        self._stop.set()

    def wait(self, seconds: float = 5.0) -> None:
        """Wait for the thread to end."""
        self._thread.join(seconds)

    def _progress(self, fraction: float) -> None:
        if self._stop.is_set():
            raise Cancelled
        self.progressed.emit(fraction)

    def _run(self) -> None:
        try:
            result = self._work(self._progress)
        except Cancelled:
            self.cancelled.emit()
        except IsophonError as error:
            self.failed.emit(str(error))
        except MemoryError:
            self.failed.emit("there is not enough memory for this; close other programs and try again")
        except Exception as error:  # noqa: BLE001 (shown to the person)
            _log.error(INSIDE, error, exc_info=error)
            self.failed.emit(
                f"an error inside Isophon stopped this ({type(error).__name__}: {error}); nothing was lost"
            )
        else:
            self.done.emit(result)
