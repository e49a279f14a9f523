"""The rough chain's panel: the numbers of its stages, and where to start from."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import NamedTuple

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QFrame,
    QGridLayout,
    QInputDialog,
    QPushButton,
    QWidget,
)

from isophon.app import theme
from isophon.app.model import chain_shelf
from isophon.app.model.keys import key_tip
from isophon.app.translation import tr
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row
from isophon.app.views.slider import Slider
from isophon.core.errors import IsophonError
from isophon.core.session.chain import STARTS, Chain


class _Row(NamedTuple):
    """A number of the chain: its words, range, and how it is shown; ``log``: the slider goes by its logarithm."""

    words: str
    low: float
    high: float
    show: Callable[[float], str]
    log: bool = False


def _db(value: float) -> str:
    return f"{theme.signed(value)} dB"


def _ms(value: float) -> str:
    return f"{value:.3g} ms"


def _ratio(value: float) -> str:
    return "off" if value <= 1.005 else f"{value:.1f} : 1"


def _share(value: float) -> str:
    return f"{100 * value:.0f} %"


_COMPRESSOR = {
    "threshold_db": _Row("Threshold", -60, 0, lambda v: f"{theme.signed(v)} dBFS"),
    "ratio": _Row("Ratio", 1, 20, _ratio, log=True),
    "attack_ms": _Row("Attack", 0.1, 200, _ms, log=True),
    "release_ms": _Row("Release", 5, 2_000, _ms, log=True),
}
_COLUMNS = (
    ("Compressor", _COMPRESSOR),
    ("Second compressor", {f"second_{name}": row for name, row in _COMPRESSOR.items()}),
    (
        "After them",
        {
            "parallel": _Row("Compressed share", 0, 1, _share),
            "shelf_hz": _Row("Shelf from", 1_000, 16_000, lambda v: f"{v / 1000:.1f} kHz", log=True),
            "shelf_db": _Row("Shelf", -12, 12, _db),
            "drive_db": _Row("Drive", 0, 24, _db),
            "room": _Row("Room", 0, 1, _share),
        },
    ),
)


class RoughPanel(QFrame):
    """``switched(on)``: through the chain, or not; ``changed(chain, gesture)``: its numbers. For listening only."""

    switched = Signal(bool)
    changed = Signal(object, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("page")
        self.setAccessibleName(tr("The rough chain"))
        self.chain = Chain()
        self.switch = QCheckBox(tr("through the rough chain"))
        key_tip(self.switch, "Listen through what is likely to happen to the stems later; never in a file ({rough})")
        self.switch.toggled.connect(self.switched)
        self.start = Choice()
        self.start.setAccessibleName(tr("Start from"))
        self.start.activated.connect(self._start)
        self.keep = QPushButton(tr("Save as…"))
        self.keep.setToolTip("Keep these numbers under a name, for other sessions")
        self.keep.clicked.connect(self._keep)
        self.delete = QPushButton(tr("Delete"))
        self.delete.setToolTip("Delete the chain of your own that is chosen")
        self.delete.clicked.connect(self._delete)
        column = make_column(self, between=8, around=(16, 12, 16, 12))
        top = make_row()
        for widget in (self.switch, self.start, self.keep, self.delete):
            top.addWidget(widget, 1 if widget is self.start else 0)
        column.addLayout(top)
        columns = QGridLayout()
        columns.setHorizontalSpacing(24)
        columns.setVerticalSpacing(4)
        self.sliders: dict[str, Slider] = {}
        self._rows: dict[str, _Row] = {}
        for at, (title, rows) in enumerate(_COLUMNS):
            columns.addWidget(Label(tr(title), objectName="head"), 0, at)
            for line, (name, row) in enumerate(rows.items(), 1):
                self.sliders[name], self._rows[name] = self._slider(name, row), row
                columns.addWidget(self.sliders[name], line, at)
        column.addLayout(columns)
        self.show_chain(self.chain)

    def _slider(self, name: str, row: _Row) -> Slider:
        scale: Callable[[float], float] = math.log if row.log else float
        usual = getattr(Chain(), name)
        step = (scale(row.high) - scale(row.low)) / 60
        show = (lambda value: row.show(math.exp(value))) if row.log else row.show
        slider = Slider(row.words, scale(row.low), scale(row.high), scale(usual), show, step,
                        words_width=112, number_width=92)  # fmt: skip
        slider.setMinimumWidth(theme.u(272))
        slider.setAccessibleName(tr(f"{row.words}, {name.replace('_', ' ')}"))
        slider.moved.connect(partial(self._moved, name))
        return slider

    def show_chain(self, chain: Chain) -> None:
        """Show the numbers of a chain."""
        self.chain = chain
        for name, slider in self.sliders.items():
            value = getattr(chain, name)
            slider.show_value(math.log(value) if self._rows[name].log else value)
        self._list()

    def _list(self) -> None:
        """The chains to start from; the one that these numbers are is shown."""
        self._known = {**STARTS, **chain_shelf.chains()}
        self.start.clear()
        self.start.addItem(tr("start from…"))
        self.start.addItems([tr(name) if name in STARTS else name for name in self._known])
        found = next((i for i, chain in enumerate(self._known.values(), 1) if chain == self.chain), 0)
        self.start.setCurrentIndex(found)
        self.delete.setEnabled(found > len(STARTS))

    def _moved(self, name: str, value: float, gesture: object) -> None:
        row = self._rows[name]
        value = min(row.high, max(row.low, math.exp(value) if row.log else value))
        value = round(value, 1 if row.high > 20 else 2)
        self.changed.emit(msgspec.structs.replace(self.chain, **{name: value}), gesture)

    def _start(self, index: int) -> None:
        if index:
            self.switch.setChecked(True)
            self.changed.emit(list(self._known.values())[index - 1], None)

    def _keep(self) -> None:
        name, given = QInputDialog.getText(self.parentWidget(), tr("Save the rough chain"), tr("Name"))
        if given and name.strip():
            self._carry_out(partial(chain_shelf.keep, name, self.chain))

    def _delete(self) -> None:
        self._carry_out(partial(chain_shelf.delete, list(self._known)[self.start.currentIndex() - 1]))

    def _carry_out(self, change: Callable[[], None]) -> None:
        try:
            change()
        except IsophonError as error:
            self.start.setToolTip(str(error))
            self.start.setItemText(0, str(error))
            return
        self._list()
