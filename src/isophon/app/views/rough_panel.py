"""The rough chain's panel: four amounts, each on or off, and where to start from."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QFrame, QGridLayout, QPushButton, QVBoxLayout, QWidget

from isophon.app import theme
from isophon.app.views.labels import Label
from isophon.app.views.slider import Slider
from isophon.core.playing.rough_chain import STARTS, Amounts

_STAGES = {
    "squeeze": ("Squeeze", "A compressor: loud moments come down, so breaths, clicks and esses come up"),
    "bright": ("Bright", "A shelf that lifts the top, esses first"),
    "drive": ("Drive", "Soft saturation"),
    "room": ("Room", "A small room around it"),
}


class RoughPanel(QFrame):
    """``changed()``: something was set. Opens over the transport; for listening only."""

    changed = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("page")
        self.setAccessibleName("The rough chain")
        self.switch = QCheckBox("through the rough chain")
        self.switch.setToolTip("Hear what is likely to happen to the stems later; it never reaches a file")
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        column.addWidget(self.switch)
        grid = QGridLayout()
        self.sliders: dict[str, Slider] = {}
        self.on: dict[str, QCheckBox] = {}
        start = next(iter(STARTS.values()))
        for row, (name, (words, tip)) in enumerate(_STAGES.items()):
            box, slider = QCheckBox(), Slider(words, 0, 100, 100 * getattr(start, name), lambda v: f"{v:.0f} %", 5.0)
            box.setChecked(True)
            box.setAccessibleName(f"{words} on")
            slider.setToolTip(tip)
            slider.setMinimumWidth(theme.u(240))
            slider.show_value(100 * getattr(start, name))
            slider.moved.connect(lambda value, _, s=slider: self._moved(s, value))
            box.toggled.connect(self._told)
            grid.addWidget(box, row, 0)
            grid.addWidget(slider, row, 1)
            self.sliders[name], self.on[name] = slider, box
        column.addLayout(grid)
        column.addWidget(Label("start from", objectName="soft"))
        for words, amounts in STARTS.items():
            button = QPushButton(words)
            button.clicked.connect(lambda _=False, a=amounts: self._start(a))
            column.addWidget(button)
        self.switch.toggled.connect(self._told)

    def amounts(self) -> Amounts | None:
        """What was set; None while it is off."""
        if not self.switch.isChecked():
            return None
        return Amounts(**{n: s.value / 100 if self.on[n].isChecked() else 0.0 for n, s in self.sliders.items()})

    def _moved(self, slider: Slider, value: float) -> None:
        slider.show_value(value)
        self._told()

    def _start(self, amounts: Amounts) -> None:
        for name, slider in self.sliders.items():
            slider.show_value(100 * getattr(amounts, name))
            self.on[name].setChecked(True)
        self.switch.setChecked(True)
        self._told()

    def _told(self) -> None:
        self.changed.emit()
