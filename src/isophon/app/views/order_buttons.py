"""The buttons that choose in which order the skyline stands; where there is little room, only the one in force."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QSize, Signal
from PySide6.QtWidgets import QButtonGroup, QSizePolicy, QWidget

from isophon.app import theme
from isophon.app.model.workspace import AUDIBLE, IN_TIME, ORDERS, RISKIEST, TALLEST
from isophon.app.translation import tr
from isophon.app.views.made import make_row, named, switch

_ROOM = 1180  # pixels of the page
_TIPS = {
    IN_TIME: "In time (T: the next order)",
    TALLEST: "What stands out most first (T: the next order)",
    RISKIEST: "Where most of the voice may be lost first (T: the next order)",
    AUDIBLE: "What can be heard in the mix and is most doubtful first (T: the next order); Shift+W accepts the rest",
}


class OrderButtons(QWidget):
    """``chosen(order)``: another order is wanted."""

    chosen = Signal(str)

    def __init__(self, parent: QWidget, page: QWidget) -> None:
        """``page``: how wide it is says whether there is room for all."""
        super().__init__(parent)
        self._page = page
        self.buttons = {name: named(switch(tr(name), self), "small") for name in ORDERS}
        self._narrow, group, row = False, QButtonGroup(self), make_row(self, between=0)
        for name, button in self.buttons.items():
            button.setToolTip(_TIPS[name])
            group.addButton(button)
            row.addWidget(button)
            button.toggled.connect(self._toggled)
            button.clicked.connect(self._clicked)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.buttons[IN_TIME].setChecked(True)
        self._fit()
        page.installEventFilter(self)

    @property
    def order(self) -> str:
        """The order in force."""
        return next(name for name, button in self.buttons.items() if button.isChecked())

    def next(self) -> None:
        """Go to the next order."""
        self.buttons[ORDERS[(ORDERS.index(self.order) + 1) % len(ORDERS)]].setChecked(True)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize:
            self._fit()
        return super().eventFilter(watched, event)

    def _fit(self) -> None:
        """Show only the order in force, or all of them."""
        self._narrow = self._page.width() < theme.u(_ROOM)
        for name, button in self.buttons.items():
            button.setVisible(not self._narrow or name == self.order)

    def minimumSizeHint(self) -> QSize:
        """That of one button: a window may always become narrow."""
        hints = [button.sizeHint() for button in self.buttons.values()]
        return QSize(max(hint.width() for hint in hints), hints[0].height())

    def _toggled(self, on: bool) -> None:
        if on:
            self._fit()
            self.chosen.emit(self.order)

    def _clicked(self) -> None:
        if self._narrow:  # no other one is there to be clicked
            self.next()
