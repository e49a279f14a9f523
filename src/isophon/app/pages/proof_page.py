"""The proof in a window of its own, before anything is written."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QPushButton, QTextBrowser, QWidget

from isophon.app.translation import tr
from isophon.app.views.made import make_column


class ProofPage(QDialog):
    """Shows a page of the proof."""

    def __init__(self, html: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("The proof"))
        self.resize(860, 680)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.page = QTextBrowser()
        self.page.setHtml(html)
        self.page.setAccessibleName(tr("The proof"))
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        layout = make_column(self, around=(16, 16, 16, 12))
        layout.addWidget(self.page, 1)
        layout.addWidget(close, 0, Qt.AlignmentFlag.AlignRight)
