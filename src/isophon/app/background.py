"""The processes that a window shares among its sessions: the workers, and the player."""

from __future__ import annotations

import contextlib
import gc
import os
import subprocess
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QScrollArea

if TYPE_CHECKING:
    from isophon.core.playing.remote import RemotePlayer
    from isophon.core.work.workers import Workers


class Background:
    """Made once they are wanted; modules are imported then too, so that the first window comes at once."""

    def __init__(self) -> None:
        self._workers: Workers | None = None
        self._player: RemotePlayer | None = None
        self._demo: subprocess.Popen | None = None

    def workers(self) -> Workers:
        """The workers, the same for all sessions of a window."""
        from isophon.app.model.preferences import preferences
        from isophon.core.takes.cache import ROOM_IN
        from isophon.core.work.workers import WORKER_COUNT, Workers

        os.environ[ROOM_IN] = str(preferences().measurements_gb)
        self._workers = self._workers or Workers(preferences().workers or WORKER_COUNT)
        return self._workers

    def player(self) -> RemotePlayer:
        """The player, the same for all sessions of a window."""
        from isophon.core.playing.remote import RemotePlayer

        self._player = self._player or RemotePlayer()
        return self._player

    def warm_up(self) -> None:
        """Load what opening needs while the start page is looked at."""
        threading.Thread(target=_load, daemon=True).start()
        QScrollArea().viewport()  # the first answer of this kind makes Python's types of all widgets
        self.workers().wake()
        self.player().wake()

    def make_demo_ahead(self) -> None:
        """Make the demo's lead and music where nothing was opened yet, so that they are there once it is clicked."""
        from isophon.app.model.state import recent_sessions
        from isophon.core.demo.cast import demo_folder
        from isophon.core.reading import real

        if self._demo is not None or recent_sessions():
            return
        command = [sys.executable, "-m", "isophon.core.demo.build", str(real(demo_folder())), str(os.getpid())]
        environment = {**os.environ, "PYTHONPATH": str(Path(__file__).resolve().parents[2])}
        nowhere = subprocess.DEVNULL
        with contextlib.suppress(OSError):  # it is tried again, and what is wrong is said, once it is asked for
            self._demo = subprocess.Popen(command, env=environment, stdout=nowhere, stderr=nowhere)

    def close(self) -> None:
        """End them."""
        if self._demo is not None:
            self._demo.terminate()
            self._demo.wait()
        if self._workers is not None:
            self._workers.close()
        if self._player is not None:
            self._player.end()
        self._workers = self._player = None


def _load() -> None:
    import isophon.app.model.opening
    import isophon.app.pages.work_page  # noqa: F401
    from isophon.core.takes.cache import program

    program()
    with contextlib.suppress(OSError):
        import sounddevice  # noqa: F401
    gc.collect()
    gc.freeze()  # modules stay, and need not be looked through once a page is there
