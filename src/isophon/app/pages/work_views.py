"""The views of the main page, and where they stand."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.pages.hand_over_page import HandOverPage
from isophon.app.pages.layout_page import LayoutPage
from isophon.app.sheets.sheet import Sheets
from isophon.app.views.labels import ElidedLabel
from isophon.app.views.legend import Legend
from isophon.app.views.lens import Lens
from isophon.app.views.parts_panel import PartsPanel
from isophon.app.views.route import TitleRow
from isophon.app.views.session_menu import SessionMenu
from isophon.app.views.skyline import Skyline
from isophon.app.views.trace import Trace
from isophon.app.views.transport import Transport


class WorkViews(QWidget):
    """Title row, parts, trace, skyline, lens and sheet, transport."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent, objectName="page")
        self.workspace = workspace
        workspace.setParent(self)
        self.menu = SessionMenu(workspace, self)
        self.title = TitleRow(self.menu)
        self.layout_page, self.panel = LayoutPage(workspace), PartsPanel(workspace)
        self.trace, self.skyline = Trace(workspace), Skyline(workspace)
        self.lens, self.sheets = Lens(workspace), Sheets(workspace)
        self.hand_over, self.transport = HandOverPage(workspace), Transport()
        self.message = QLabel("", objectName="message", wordWrap=True)
        self.message.hide()
        self.pages = QStackedWidget()
        self.work = QSplitter(Qt.Orientation.Vertical, childrenCollapsible=False)
        self._lay_out()

    def _lay_out(self) -> None:
        heading = QHBoxLayout()
        heading.setContentsMargins(16, 4, 16, 0)
        self.about = ElidedLabel("soft")
        heading.setSpacing(0)
        heading.addWidget(QLabel("Skyline", objectName="head"))
        heading.addSpacing(14)
        heading.addWidget(self.about, 1)
        heading.addWidget(Legend(self.workspace))
        heading.addSpacing(14)
        order = QButtonGroup(self)
        self.in_time, self.tallest = (
            QPushButton(text, checkable=True, objectName="") for text in ("in time", "tallest first")
        )
        self.in_time.setChecked(True)
        self.will_sound = QPushButton("as it will sound", checkable=True)
        self.will_sound.setToolTip(
            "Bars as high as they stand out after the rough chain (R): compressor and bright shelf"
        )
        self.will_sound.toggled.connect(self.skyline.set_as_it_will_sound)
        heading.addWidget(self.will_sound)
        heading.addSpacing(8)
        for button in (self.in_time, self.tallest):
            order.addButton(button)
            heading.addWidget(button)
        chart = QWidget()
        column = QVBoxLayout(chart)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(heading)
        column.addWidget(self.skyline, 1)
        close = QWidget()
        row = QHBoxLayout(close)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.lens, 3)
        row.addWidget(_rule(vertical=True))
        row.addWidget(self.sheets, 2)
        for widget, share in ((self.trace, 5), (chart, 4), (close, 4)):
            self.work.addWidget(widget)
            self.work.setStretchFactor(self.work.count() - 1, share)
        self.work.setSizes([262, 208, 212])
        passes = QWidget()
        beside = QHBoxLayout(passes)
        beside.setContentsMargins(0, 0, 0, 0)
        beside.setSpacing(0)
        for widget in (self.panel, _rule(vertical=True), self.work):
            beside.addWidget(widget, 1 if widget is self.work else 0)
        for page in (self.layout_page, passes, self.hand_over):
            self.pages.addWidget(page)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for widget in (self.title, _rule(), self.message, self.pages, _rule(), self.transport):
            layout.addWidget(widget, 1 if widget is self.pages else 0)


def _rule(vertical: bool = False) -> QFrame:
    line = QFrame()
    line.setStyleSheet(f"background: {theme.RULE.name()}")
    if vertical:
        line.setFixedWidth(1)
    else:
        line.setFixedHeight(1)
    return line
