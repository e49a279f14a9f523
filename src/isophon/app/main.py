"""Opens the window."""

from __future__ import annotations

import signal
import socket
import sys
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QSocketNotifier, QTimer
from PySide6.QtWidgets import QApplication

from isophon.app import theme
from isophon.app.model.appearance import appearance
from isophon.app.model.preferences import preferences
from isophon.app.translation import use_language
from isophon.app.unexpected import Unexpected
from isophon.app.views.labels import have_plain_tips
from isophon.app.window import Window

_IDLE_MS = 200
_SETTLED_MS = 2_000  # what is loaded for the window comes first

_SWITCH_S = 0.001  # the player renders in a thread of this process; the window waits for it no longer than this


def make_app() -> QApplication:
    """The application with its fonts and look."""
    sys.setswitchinterval(_SWITCH_S)
    there = QApplication.instance()
    app = there if isinstance(there, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("isophon")
    app.setDesktopFileName("isophon")
    app.setStyle("Fusion")
    use_language(app, preferences().language)
    theme.load_fonts()
    have_plain_tips(app)
    appearance()
    return app


class _SignalNotifier(QSocketNotifier):
    """Wakes Qt's loop where something was written to the second of two sockets, and keeps both open."""

    def __init__(self, ours: socket.socket, its: socket.socket, window: Window) -> None:
        super().__init__(ours.fileno(), QSocketNotifier.Type.Read, window)
        self._sockets = ours, its


def _close_on_signals(window: Window) -> QSocketNotifier:
    """End as by hand, with everything written down, when the process is asked to end (SIGTERM, SIGINT, SIGHUP).

    Python's handlers run only when Python does; the socket that it writes each signal to wakes Qt's loop.
    """
    ours, its = socket.socketpair()
    for end in (ours, its):
        end.setblocking(False)
    signal.set_wakeup_fd(its.fileno())
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, lambda *_: None)
    notifier = _SignalNotifier(ours, its, window)

    def leave() -> None:
        ours.recv(16)
        window.leave()

    notifier.activated.connect(leave)
    return notifier


def run(session: Path | None = None, demo: bool = False, ended: Callable[[], bool] = lambda: False) -> int:
    """Open the window, with a session if one is named or with the demo; returns when it is closed.

    ``ended()``: whether the process was asked to end before the window was there.
    """
    if ended():
        return 0
    app = make_app()
    window = Window()
    sys.excepthook = Unexpected(window)
    notice = _close_on_signals(window)  # noqa: F841 (it lives as long as the window)
    if ended():
        window.close()
        return 0
    window.show()
    if session is not None:
        QTimer.singleShot(0, lambda: window.open_path(session))
    elif demo:
        QTimer.singleShot(0, window.open_demo)
    else:
        QTimer.singleShot(_SETTLED_MS, window.background.make_demo_ahead)
    QTimer.singleShot(_IDLE_MS, window.background.warm_up)
    return app.exec()
