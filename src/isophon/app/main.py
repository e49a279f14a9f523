"""Opens the window."""

from __future__ import annotations

import signal
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication

from isophon.app import theme
from isophon.app.window import Window

_IDLE_MS = 200


def make_app() -> QApplication:
    """The application with its fonts and look."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("isophon")
    app.setDesktopFileName("isophon")
    app.setStyle("Fusion")
    theme.load_fonts()
    app.setStyleSheet(theme.SHEET)
    return app


def run(session: Path | None = None) -> int:
    """Open the window, with a session if one is named; returns when it is closed."""
    app = make_app()
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    window = Window()
    window.show()
    if session is not None:
        QTimer.singleShot(0, lambda: window.open_path(session))
    QTimer.singleShot(_IDLE_MS, window.warm_up)
    return app.exec()
