"""The manual beside the work: its chapters, a search over all of them, pictures."""

from __future__ import annotations

import re
from typing import Any

from PySide6.QtCore import Qt, QTimer, QUrl
from PySide6.QtGui import QImage, QResizeEvent, QTextCharFormat, QTextCursor, QTextDocument
from PySide6.QtWidgets import (
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QTextBrowser,
    QTextEdit,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.keys import key_book
from isophon.app.model.manual import Chapter, chapters, folder
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row

_MOST_FOUND = 500  # places that are marked in a chapter
_LIST_WIDE, _MARGIN, _RESIZED_MS = 170, 12, 60
_PICTURE = re.compile(r"!\[[^\]]*\]\(([^)]+)\)")


class HelpPage(QDialog):
    """Shows a chapter; what is searched for is marked in it, and chapters without it are not listed."""

    def __init__(self, chapter: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Help"))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(theme.u(980), theme.u(680))
        self._chapters = chapters(key_book().groups)
        self.words = QLineEdit(placeholderText="Search the manual", clearButtonEnabled=True)
        self.words.setAccessibleName(tr("Search the manual"))
        self.words.setToolTip("Words to look for; Return goes to the next place")
        self.words.textChanged.connect(self._search)
        self.words.returnPressed.connect(self.find_next)
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Chapters"))
        self.list.setFixedWidth(theme.u(_LIST_WIDE))
        for one in self._chapters:
            self.list.addItem(QListWidgetItem(tr(one.name)))
        self.list.currentRowChanged.connect(self._show_chapter)
        self.text = _Page()
        self.text.anchorClicked.connect(self._follow)
        self.found = Label("", objectName="soft")
        close = QPushButton(tr("Close"))
        close.setAutoDefault(False)  # Return in the search goes to the next place
        close.clicked.connect(self.accept)
        side = make_column(between=8)
        side.addWidget(self.words)
        side.addWidget(self.list, 1)
        side.addWidget(self.found)
        row = make_row(between=16)
        row.addLayout(side)
        row.addWidget(self.text, 1)
        column = make_column(self, between=12, around=(16, 16, 16, 12))
        column.addLayout(row, 1)
        column.addWidget(close, 0, Qt.AlignmentFlag.AlignRight)
        self.open_chapter(chapter)
        self.words.setFocus()

    def open_chapter(self, name: str) -> None:
        """Show a chapter; the first one where there is none of that name."""
        names = [one.name for one in self._chapters]
        self.list.setCurrentRow(names.index(name) if name in names else 0)

    def find_next(self) -> None:
        """Go to the next place in the chapter, then on to the next chapter that has one."""
        if self.text.go_to_next():
            return
        rows = [row for row in range(self.list.count()) if not self.list.item(row).isHidden()]
        if rows:
            later = [row for row in rows if row > self.list.currentRow()]
            self.list.setCurrentRow(later[0] if later else rows[0])
            self.text.go_to_next()

    def _search(self, words: str) -> None:
        having = [row for row, one in enumerate(self._chapters) if one.has(words)]
        for row in range(self.list.count()):
            self.list.item(row).setHidden(row not in having)
        if having and self.list.currentRow() not in having:
            self.list.setCurrentRow(having[0])
        else:
            self.text.mark(words)
        self.found.setText(
            tr("" if not words else f"in {len(having)} of {len(self._chapters)}" if having else "nowhere")
        )

    def _show_chapter(self, row: int) -> None:
        if row >= 0:
            self.text.show_chapter(self._chapters[row])
            self.text.mark(self.words.text())

    def _follow(self, url: QUrl) -> None:
        """A link to another chapter; nothing else is opened from here."""
        if url.isRelative() and url.hasFragment():
            wanted = url.fragment().replace("-", " ").casefold()
            name = next((one.name for one in self._chapters if one.name.casefold() == wanted), "")
            if name:
                self.open_chapter(name)


class _Page(QTextBrowser):
    """A chapter, its pictures as wide as there is room."""

    def __init__(self) -> None:
        super().__init__()
        self.setOpenLinks(False)
        self.setAccessibleName(tr("Manual"))
        self._shown: Chapter | None = None
        self._words = ""
        self._places: list[QTextCursor] = []
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)  # the width is the same for all chapters
        self._resized = QTimer(self, singleShot=True, interval=_RESIZED_MS)  # never while it is being laid out
        self._resized.timeout.connect(self._fit)

    def show_chapter(self, chapter: Chapter) -> None:
        self._shown, self._places = chapter, []
        self._lay_out()

    def _lay_out(self) -> None:
        self.clear()
        self.setCurrentCharFormat(QTextCharFormat())  # else the text begins as the heading did that was there
        self.document().setDocumentMargin(theme.u(_MARGIN))
        text = self._shown.text if self._shown else ""
        self.setMarkdown(text)
        for name in _PICTURE.findall(text):
            self.document().addResource(QTextDocument.ResourceType.ImageResource.value, QUrl(name), self._scaled(name))
        self.document().markContentsDirty(0, self.document().characterCount())

    def mark(self, words: str) -> None:
        """Mark where any of some words stand."""
        self._words = words
        look = QTextCharFormat()
        look.setBackground(theme.OVER_FAINT)
        self._places, marked = [], []
        for word in words.split():
            place = self.document().find(word)
            while not place.isNull() and len(self._places) < _MOST_FOUND:
                self._places.append(place)
                one: Any = QTextEdit.ExtraSelection()
                one.cursor, one.format = place, look
                marked.append(one)
                place = self.document().find(word, place)
        self._places.sort(key=lambda at: at.position())
        self.setExtraSelections(marked)
        start = self.textCursor()
        start.movePosition(QTextCursor.MoveOperation.Start)
        self.setTextCursor(start)

    def go_to_next(self) -> bool:
        """Go to the next place that is marked; False where there is none."""
        here = self.textCursor().selectionEnd()
        following = next((at for at in self._places if at.selectionStart() >= here), None)
        if following is None:
            return False
        self.setTextCursor(following)
        self.ensureCursorVisible()
        return True

    def _scaled(self, name: str) -> QImage:
        """A picture of the manual, no wider than the page; nothing from anywhere else."""
        path = (folder() / name).resolve()
        picture = QImage(str(path)) if path.is_relative_to(folder().resolve()) else QImage()
        room = max(1, self.viewport().width() - 2 * theme.u(_MARGIN))
        if picture.width() <= room:
            return picture
        return picture.scaledToWidth(room, Qt.TransformationMode.SmoothTransformation)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.oldSize().width() != event.size().width():
            self._resized.start()

    def _fit(self) -> None:
        """The pictures are as wide as the page is now; it stays where it was read."""
        at = self.verticalScrollBar().value()
        self._lay_out()
        self.mark(self._words)
        self.verticalScrollBar().setValue(at)
