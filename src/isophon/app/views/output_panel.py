"""The output: device, rate, block, volume, which sides are heard, and the limiter. Opens over the transport."""

from __future__ import annotations

from typing import Any

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QFrame, QWidget

from isophon.app import theme
from isophon.app.model.keys import key_tip
from isophon.app.model.listening import BLOCKS, HIGHEST_DB, LOWEST_DB, PRE_ROLLS, RATES, ListeningSettings
from isophon.app.translation import tr, tr_all
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import Label
from isophon.app.views.made import grid, make_column
from isophon.app.views.slider import Slider
from isophon.core.playing.device import Output

SIDES = ("stereo", "mono", "left side only", "right side only")
_SYSTEMS_OWN = "the system's own"


class OutputPanel(QFrame):
    """``changed(settings)``: something was chosen; ``opened()``: it is seen, so that the outputs are listed anew."""

    changed = Signal(object)
    opened = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("page")
        self.setAccessibleName(tr("Output"))
        self.settings = ListeningSettings()
        self._outputs: list[Output] = []
        self.device, self.rate, self.block, self.sides, self.pre_roll = (Choice() for _ in range(5))
        self.pre_roll.addItems(tr_all([_pre_roll_words(*pre_roll) for pre_roll in PRE_ROLLS]))
        key_tip(self.pre_roll, "How much earlier a selection is played from ({play}, {play_once})")
        self.rate.addItems(tr_all([f"{rate / 1000:g} kHz" if rate else "as the session" for rate in RATES]))
        self.block.addItems(tr_all([f"{block} samples" if block else "as the device" for block in BLOCKS]))
        self.sides.addItems(tr_all(SIDES))
        self.volume = Slider("Volume", LOWEST_DB, HIGHEST_DB, 0.0, lambda v: f"{theme.signed(v)} dB", 1.0)
        key_tip(self.volume, "How loud you hear it; nothing of it goes into a file ({louder}, {softer})")
        self.volume.setMinimumWidth(theme.u(300))
        self.limited = QCheckBox(tr("listening limiter, −1 dBTP"))
        self.limited.setToolTip("Guards ears and loudspeakers; nothing of it goes into a file")
        self.about = Label("", objectName="soft", wordWrap=True)
        column = make_column(self, between=8, around=(16, 12, 16, 12))
        column.addWidget(Label(tr("Output"), objectName="head"))
        rows = grid(None, 12, 8)
        named = (("Device", self.device), ("Rate", self.rate), ("Block", self.block), ("Heard as", self.sides),
                 ("Pre-roll", self.pre_roll))  # fmt: skip
        for row, (words, choice) in enumerate(named):
            choice.setAccessibleName(tr(words))
            rows.addWidget(Label(tr(words)), row, 0)
            rows.addWidget(choice, row, 1)
        rows.setColumnStretch(1, 1)
        column.addLayout(rows)
        column.addWidget(self.volume)
        column.addWidget(self.limited)
        column.addWidget(self.about)
        self.device.activated.connect(lambda i: self._set(device="" if i == 0 else self._outputs[i - 1].name))
        self.rate.activated.connect(lambda i: self._set(rate=RATES[i]))
        self.block.activated.connect(lambda i: self._set(block=BLOCKS[i]))
        self.sides.activated.connect(lambda i: self._set(sides=i))
        self.pre_roll.activated.connect(lambda i: self._set(pre_roll_s=PRE_ROLLS[i][0], pre_roll_bars=PRE_ROLLS[i][1]))
        self.volume.moved.connect(lambda value, _: self._set(volume_db=round(value, 1)))
        self.limited.clicked.connect(lambda on: self._set(limited=on))

    def show_settings(self, settings: ListeningSettings) -> None:
        """Show what is chosen."""
        self.settings = settings
        names = [one.name for one in self._outputs]
        self.device.setCurrentIndex(1 + names.index(settings.device) if settings.device in names else 0)
        self.rate.setCurrentIndex(RATES.index(settings.wanted.rate))
        self.block.setCurrentIndex(BLOCKS.index(settings.wanted.block))
        self.sides.setCurrentIndex(settings.sides)
        bars, seconds = settings.pre_roll_bars, settings.pre_roll_s
        near = min(PRE_ROLLS, key=lambda one: (abs(one[1] - bars), abs(one[0] - seconds)))
        self.pre_roll.setCurrentIndex(PRE_ROLLS.index(near))
        self.volume.show_value(settings.volume_db)
        self.limited.setChecked(settings.limited)

    def show_outputs(self, outputs: list[Output], name: str, rate: int, gone: str) -> None:
        """Show which outputs there are, and which one plays; ``gone``: the one that was chosen and is not there."""
        chosen = self.settings.device
        known = [*outputs, *([Output(chosen, 0)] if chosen and all(one.name != chosen for one in outputs) else [])]
        if known != self._outputs or not self.device.count():
            self._outputs = known
            self.device.clear()
            self.device.addItem(tr(_SYSTEMS_OWN))
            self.device.addItems([one.name if one.rate else tr(f"{one.name} (not there)") for one in known])
            self.show_settings(self.settings)
        plays = f"Plays on {name}{f' at {rate / 1000:g} kHz' if rate else ''}."
        self.about.setText(tr(f"{gone} is not there; it is used as soon as it is. {plays}" if gone else plays))

    def step_volume(self, by_db: float) -> None:
        """A little louder or softer."""
        self._set(volume_db=min(HIGHEST_DB, max(LOWEST_DB, self.settings.volume_db + by_db)))

    def toggle_mono(self) -> None:
        """Mono, or stereo again."""
        self._set(sides=int(self.settings.sides != 1))

    def _set(self, **values: Any) -> None:
        self.show_settings(msgspec.structs.replace(self.settings, **values))
        self.changed.emit(self.settings)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.opened.emit()


def _pre_roll_words(seconds: float, bars: int) -> str:
    if bars:
        return f"{bars} bar{'s' if bars > 1 else ''} ({seconds:g} s without)"
    return f"{seconds:g} s" if seconds else "none"
