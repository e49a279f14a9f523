"""One line to the person for a while, floating over the work: what is under it stays where it is."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.translation import tr
from isophon.app.views.labels import Label

_SHOWN_MS = 9_000
_MARGIN, _WIDEST = 12, 900


class Notice(Label):
    """Stands at the top of the widget ``over``, a child of ``page``, in the colour of what it says; a click ends it."""

    def __init__(self, page: QWidget, over: QWidget) -> None:
        super().__init__("", page, objectName="message", wordWrap=True)
        self._over = over
        self._hush = QTimer(self, singleShot=True, interval=_SHOWN_MS)
        self._hush.timeout.connect(self.hide)
        over.installEventFilter(self)
        self.hide()

    def tell(self, words: str, trouble: bool) -> None:
        """Show words; ``trouble``: something went wrong."""
        self.setText(tr(words))
        self.setProperty("trouble", trouble)
        self.style().unpolish(self)
        self.style().polish(self)
        self._place()
        self.show()
        self.raise_()
        self._hush.start()

    def _place(self) -> None:
        area = self._over.geometry()
        room = max(120, area.width() - 2 * _MARGIN)
        width = min(room, theme.u(_WIDEST), self.fontMetrics().horizontalAdvance(self.text()) + theme.u(48))
        height = min(self.heightForWidth(width), area.height() - 2 * _MARGIN)
        self.setGeometry(area.center().x() - width // 2, area.top() + _MARGIN, width, height)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() in (QEvent.Type.Resize, QEvent.Type.Move) and self.isVisible():
            self._place()
        return super().eventFilter(watched, event)

    def mousePressEvent(self, _event: QMouseEvent) -> None:
        self.hide()
