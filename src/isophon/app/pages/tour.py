"""The guided tour: a panel over the work that tells one thing at a time and does it for real."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QEvent, QObject, QRect, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.keys import keyed
from isophon.app.pages.tour_steps import STEPS, Step, part_of_tour
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row, named

_WIDE, _FROM_EDGE, _LINE = 380, 16, 3


class Tour(QFrame):
    """Eight steps, each done by its button; it can be left at any time. ``page``: the work page, which imports this."""

    def __init__(self, page: Any) -> None:
        super().__init__(page)
        self.setObjectName("tour")
        self._page, self._at, self._done = page, 0, False
        self.began_at = 0  # the step of the history at which it began
        self.title, self.words = Label("", objectName="head"), Label("", wordWrap=True)
        self.count = Label("", objectName="soft")
        self.does = named(QPushButton(), "main")
        self.does.clicked.connect(self._go_on)
        self.leave = named(QPushButton(tr("Leave the tour")), "plain")
        self.leave.clicked.connect(self.end)
        self._ring = _Ring(page)
        head, foot = make_row(), make_row()
        head.addWidget(self.title, 1)
        head.addWidget(self.count)
        foot.addWidget(self.does)
        foot.addStretch(1)
        foot.addWidget(self.leave)
        column = make_column(self, between=8, around=(16, 12, 16, 12))
        column.addLayout(head)
        column.addWidget(self.words)
        column.addLayout(foot)
        self.setFixedWidth(theme.u(_WIDE))
        self.hide()
        page.installEventFilter(self)
        page.workspace.take_changed.connect(self._show)

    @property
    def step(self) -> Step:
        """The one that is shown now."""
        return STEPS[self._at]

    def begin(self) -> None:
        """Begin at the first step."""
        self._at, self._done = 0, False
        self.began_at = self._page.workspace.keeper.history.at
        self.show()
        self._show()
        self.does.setFocus()

    def end(self) -> None:
        """Leave it; what it did stays, as steps that can be undone."""
        self.hide()
        self._ring.hide()
        self._page.setFocus()

    def _go_on(self) -> None:
        """Do what the step shows, then go on to the next one."""
        if not self._done:
            self.step.do(self._page)
            self._done = True
        elif self._at + 1 < len(STEPS):
            self._at, self._done = self._at + 1, False
        else:
            self.end()
            return
        self._show()

    def _show(self) -> None:
        if self.isHidden():
            return
        part = part_of_tour(self._page)
        ready = part is not None and part.found
        last = self._at + 1 == len(STEPS)
        self.title.setText(tr(self.step.title))
        self.count.setText(tr(f"{self._at + 1} of {len(STEPS)}"))
        self.words.setText(tr(keyed(self.step.words)))
        does = self.step.does if ready else "The lead is being analysed…" if part else "There is no part here yet"
        self.does.setText(tr(does if not self._done else "End the tour" if last else "Next"))
        self.does.setEnabled(ready)
        self._place()

    def _place(self) -> None:
        """Over the map, or the skyline where it is about the map; a ring around what it is about."""
        self.adjustSize()
        views = self._page.views
        target = self.step.points_at(views)
        over = views.skyline if target is views.trace else views.trace
        area = self._box(over) if over.isVisible() else views.pages.geometry()
        edge = theme.u(_FROM_EDGE)
        self.move(area.left() + edge, area.bottom() - self.height() - edge)
        shown = target.isVisible() and not self._done
        if shown:
            self._ring.setGeometry(self._box(target).adjusted(-_LINE, -_LINE, _LINE, _LINE) & self._page.rect())
        self._ring.setVisible(shown)
        self._ring.raise_()
        self.raise_()

    def _box(self, widget: QWidget) -> QRect:
        """Where a widget stands on the page."""
        return QRect(widget.mapTo(self._page, widget.rect().topLeft()), widget.size())

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and self.isVisible():
            self._place()
        return super().eventFilter(watched, event)


class _Ring(QWidget):
    """A line around what the step is about; whatever is under it can be used."""

    def __init__(self, page: QWidget) -> None:
        super().__init__(page)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(QPen(theme.SELECTED, _LINE))
        painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
