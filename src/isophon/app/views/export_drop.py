"""A new export dropped on the row of a part takes the place of its recording."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import cast

from PySide6.QtCore import QEvent, QMimeData, QObject
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QWidget

from isophon.core.audio.files import ENDINGS


class ExportDrop(QObject):
    """Takes one recording that is dropped on a widget; ``dropped(path)``. What else is dropped goes to the window.

    ``over``: whether one is held over the widget now.
    """

    def __init__(self, widget: QWidget, dropped: Callable[[Path], None]) -> None:
        super().__init__(widget)
        self._widget, self._dropped = widget, dropped
        self.over = False
        widget.setAcceptDrops(True)
        widget.installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.DragLeave:
            self._show(False)
        elif event.type() in (QEvent.Type.DragEnter, QEvent.Type.DragMove, QEvent.Type.Drop):
            drop = cast("QDropEvent", event)
            path = _recording(drop.mimeData())
            self._show(path is not None and event.type() != QEvent.Type.Drop)
            if path is None:
                drop.ignore()
                return True
            drop.acceptProposedAction()
            if event.type() == QEvent.Type.Drop:
                self._dropped(path)
            return True
        return super().eventFilter(watched, event)

    def _show(self, over: bool) -> None:
        self.over = over
        self._widget.update()


def _recording(data: QMimeData) -> Path | None:
    """The one recording that is dropped; None where it is something else, or several files."""
    urls = data.urls()
    if len(urls) != 1 or not urls[0].isLocalFile():
        return None
    path = Path(urls[0].toLocalFile())
    return path if path.suffix.lower() in ENDINGS else None
