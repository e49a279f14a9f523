"""The views of the main page, and where they stand."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QFrame,
    QPushButton,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.keys import key_tip
from isophon.app.model.workspace import Workspace
from isophon.app.pages.hand_over_page import HandOverPage
from isophon.app.pages.large_picture import LargePicture
from isophon.app.pages.layout_page import LayoutPage
from isophon.app.pages.route import TitleRow
from isophon.app.pages.splits import Splits
from isophon.app.sheets import PASSES
from isophon.app.sheets.sheet import Sheets
from isophon.app.translation import tr
from isophon.app.views.folding import Folding
from isophon.app.views.labels import ElidedLabel, Label
from isophon.app.views.legend import Legend
from isophon.app.views.lens import Lens
from isophon.app.views.made import make_column, make_row, named, switch
from isophon.app.views.notice import Notice
from isophon.app.views.order_buttons import OrderButtons
from isophon.app.views.parts_panel import WIDTH, PartsPanel
from isophon.app.views.session_menu import SessionMenu
from isophon.app.views.skyline import Skyline
from isophon.app.views.stack_chart import StackChart
from isophon.app.views.trace import Trace
from isophon.app.views.transport import Transport

_SIDE = 300
_SKYLINE, _SKYLINE_FROM, _SKYLINE_TO, _LENS = 0.29, 150, 260, 360  # its share of the height; pixels


class WorkViews:
    """Title row; parts, map over skyline, lens over sheet; transport. They fill a page."""

    def __init__(self, workspace: Workspace, page: QWidget) -> None:
        self.workspace, self._page = workspace, page

    def building(self) -> Iterator[None]:
        """Make the views one after another, with a turn of the window's in between, since each takes a while.

        Each is made where it belongs: what is put elsewhere later gets its style twice.
        """
        workspace = self.workspace
        self.menu = SessionMenu(workspace, self._page)
        self.title = TitleRow(self.menu, self._page)
        self.pages = QStackedWidget(self._page)
        self.message = Notice(self._page, self.pages)
        self.transport = Transport(self._page)
        column = make_column(self._page, between=0)
        for widget in (self.title, _rule(self._page), self.pages, _rule(self._page), self.transport):
            column.addWidget(widget, 1 if widget is self.pages else 0)
        yield
        for item in workspace.session.items:
            workspace.pool.take(item.source)  # what is known of it is looked up
            yield
        self.layout_page = LayoutPage(workspace, self.pages)
        self.pages.addWidget(self.layout_page)
        yield
        passes = QWidget(self.pages)
        beside = make_row(passes, between=0)
        self.panel = PartsPanel(workspace, passes)
        self.parts = Folding(self.panel, theme.u(WIDTH), "the parts", True, passes)
        beside.addWidget(self.parts)
        beside.addWidget(_rule(passes, vertical=True))
        self.pages.addWidget(passes)
        yield
        self.work = QSplitter(Qt.Orientation.Vertical, passes, childrenCollapsible=False)
        self.trace = Trace(workspace, self.work)
        self._lay_out_skyline()
        self.work.setStretchFactor(0, 1)
        beside.addWidget(self.work, 1)
        yield
        self._lay_out_side(passes)
        yield from self.sheets.building()
        beside.addWidget(_rule(passes, vertical=True))
        beside.addWidget(self.side)
        self.large = LargePicture(workspace, self.sheets, self.trace)
        self.splits = Splits(self.work, self._side_split, usual_sizes)
        yield
        self.hand_over = HandOverPage(workspace, self.pages)
        self.pages.addWidget(self.hand_over)
        yield

    def areas(self) -> list[QWidget]:
        """The parts of the page in the order in which they are read."""
        passes: list[QWidget] = [self.parts, self.trace, self.under_map, self.side]
        pages: dict[int, list[QWidget]] = {0: [self.layout_page], 1: passes, 2: [self.hand_over]}
        inside = pages[self.pages.currentIndex()]
        return [self.title, *inside, self.transport]

    def toggle_map_alone(self) -> None:
        """Give the map all the room, or take it back."""
        alone = not (self.parts.folded and self.side.folded and self.under_map.isHidden())
        self.parts.fold(alone)
        self.side.fold(alone)
        self.under_map.setVisible(not alone)

    def zoom_mark(self) -> None:
        """Show the selected time, else the selected mark, close."""
        mark, selection = self.workspace.mark, self.workspace.selected_time
        if selection:
            around = 0.02 * (selection[1] - selection[0])
            self.workspace.viewport.glide_to(selection[0] - around, selection[1] + around)
        elif mark:
            middle = sum(mark.span) / 2
            self.workspace.viewport.glide_to(middle - 0.75, middle + 0.75)

    def state(self) -> dict[str, str]:
        """What the window remembers of this page."""
        return self.splits.state()

    def restore(self, state: dict[str, str]) -> None:
        """Be as it was."""
        self.splits.restore(state, (which.kind for which in PASSES))

    def show_stack(self, on: bool) -> None:
        """The bars of all parts in place of those of the selected part, or these again."""
        self.stack_chart.setVisible(on)
        self.skyline.setVisible(not on and not self.skyline.empty)

    def _lay_out_side(self, passes: QWidget) -> None:
        """Lens and sheet, one over the other, in a column that folds."""
        inside = self._side_split = QSplitter(Qt.Orientation.Vertical, passes)
        inside.setChildrenCollapsible(False)
        self.side = Folding(inside, theme.u(_SIDE), "lens and sheet", False, passes)
        self.lens = Lens(self.workspace, inside)
        self.sheets = Sheets(self.workspace, inside)
        inside.setStretchFactor(1, 1)

    def _lay_out_skyline(self) -> None:
        chart = self.under_map = QWidget(self.work)
        self.skyline, self.stack_chart = Skyline(self.workspace, chart), StackChart(self.workspace, chart)
        self.stack_chart.hide()
        heading = make_row(between=0, around=(16, 4, 12, 0))
        self.about = ElidedLabel("soft", chart)
        self.about.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # it takes what is left
        heading.addWidget(Label(tr("Skyline"), chart, objectName="head"))
        heading.addSpacing(8)
        heading.addWidget(self.about, 1)
        heading.addSpacing(8)
        self.will_sound = switch(tr("after chain"), chart)
        self.orders = OrderButtons(chart, self._page)
        key_tip(
            self.will_sound, "Bars as high as they stand out after the rough chain ({rough}): compressors and shelf"
        )
        self.will_sound.toggled.connect(self.skyline.set_as_it_will_sound)
        self.draw = switch(tr("draw"), chart)
        self.draw.setToolTip("Dragging over the map or the lens draws a box, with Shift a free outline (V, or hold "
                             "Ctrl); Esc ends it")  # fmt: skip
        self.legend = Legend(self.workspace, self._page)
        self.signs = QPushButton(tr("signs"), chart)
        self.signs.setToolTip("What the signs and colours mean")
        self.signs.clicked.connect(lambda: self.legend.open_over(self.signs))
        self.stack = switch(tr("stack"), chart)
        key_tip(
            self.stack, "The marks of all parts at the same moment side by side; a column is dragged as one ({stack})"
        )
        self.stack.toggled.connect(self.show_stack)
        for button in (self.signs, self.draw):
            heading.addWidget(button)
            heading.addSpacing(8)
        heading.addWidget(self.will_sound)
        heading.addSpacing(8)
        heading.addWidget(self.orders)
        self.orders.chosen.connect(self.skyline.set_order)
        heading.addSpacing(4)
        heading.addWidget(self.stack)
        for button in (self.draw, self.will_sound, self.signs, self.stack):
            button.setObjectName("small")
        column = make_column(chart, between=0)
        column.addLayout(heading)
        column.addWidget(self.skyline, 1)
        column.addWidget(self.stack_chart, 1)


def usual_sizes(high: int) -> tuple[int, int, int, int]:
    """Of map and skyline, lens and sheet, in a window of that height."""
    skyline = round(min(max(_SKYLINE * high, theme.u(_SKYLINE_FROM)), theme.u(_SKYLINE_TO)))
    lens = min(theme.u(_LENS), high // 2)
    return high - skyline, skyline, lens, high - lens


def _rule(parent: QWidget, vertical: bool = False) -> QFrame:
    line = named(QFrame(parent), "rule")
    if vertical:
        line.setFixedWidth(1)
    else:
        line.setFixedHeight(1)
    return line
