"""The sheets: the few settings of each pass, and a picture of what comes down."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from isophon.app import theme
from isophon.app.desk import Desk
from isophon.app.passes import PASSES, Pass
from isophon.app.slider import Slider
from isophon.core.passes.rumble.lowcut import RumbleSettings, cut_of, loss_db
from isophon.core.session.settings import role_default

_WIDTH = 168


class Sheets(QStackedWidget):
    """The sheet of the pass that is open."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.desk = desk
        self.of = {which.kind: Sheet(desk, which) for which in PASSES}
        for sheet in self.of.values():
            self.addWidget(sheet)
        desk.part_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        self.setCurrentWidget(self.of[self.desk.pass_.kind])


class Sheet(QWidget):
    """Every setting acts at once and is heard at once; the tick marks the role's default."""

    def __init__(self, desk: Desk, which: Pass, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.desk, self.which = desk, which
        default = role_default(which.kind, "lead")
        self.sliders = {
            knob.name: Slider(
                knob.words, knob.low, knob.high, getattr(default, knob.name), knob.show, knob.step, _WIDTH
            )
            for knob in which.knobs
        }
        head = QHBoxLayout()
        self.about = QLabel(objectName="soft")
        head.addWidget(QLabel(which.name, objectName="head"))
        head.addSpacing(10)
        head.addWidget(self.about, 1)
        self.more = QPushButton("More", checkable=True, objectName="plain")
        self.more.toggled.connect(self._show_more)
        self.reset = QPushButton("Defaults", objectName="plain")
        self.reset.setToolTip("All settings back to the role’s default, for the parts in hand")
        self.reset.clicked.connect(desk.role_settings)
        head.addWidget(self.more)
        head.addWidget(self.reset)
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(12, 8, 16, 8)
        self._column.setSpacing(1)
        self._column.addLayout(head)
        self.extras = {"gap": _FloorExtras, "breath": _BreathExtras}.get(which.kind, lambda _: None)(desk)
        if self.extras is not None:
            self._column.addWidget(self.extras)
        for knob in which.knobs:
            slider = self.sliders[knob.name]
            slider.setToolTip(knob.tip)
            slider.moved.connect(lambda value, gesture, name=knob.name: desk.set_setting(name, value, gesture))
            self._column.addWidget(slider)
        if which.kind == "ess":
            self.curve = _Curve(desk)
            self._column.addWidget(self.curve, 1)
            desk.hand_changed.connect(self.curve.update)
        else:
            self._column.addStretch(1)
        self._show_more(False)
        desk.part_changed.connect(self._show)
        desk.take_changed.connect(self._show)
        self._show()

    def _show_more(self, on: bool) -> None:
        for knob in self.which.knobs:
            self.sliders[knob.name].setVisible(on or not knob.more)

    def _show(self) -> None:
        part, kind = self.desk.part, self.which.kind
        settings, default = getattr(part, kind), role_default(kind, part.role)
        for name, slider in self.sliders.items():
            slider.show_value(getattr(settings, name), getattr(default, name))
        usual, count = part.usual, len(self.desk.parts_in_hand)
        words = ""
        if kind == "ess" and usual is not None:
            words = f"usual ess {theme.signed(usual)} dB over the voice"
        elif kind == "gap" and part.floor_dbfs is not None:
            still = self.desk.take.stillness(part.plan)
            words = f"stillness {theme.from_to(*still)}FS" if still else ""
        self.about.setText(f"for the {count} parts in hand" if count > 1 else words)
        kinds = ("rumble", "gap") if kind == "gap" else (kind,)
        parts = [p for p in self.desk.session.parts if p.id in self.desk.parts_in_hand]
        self.reset.setEnabled(any(getattr(p, k) != role_default(k, p.role) for p in parts for k in kinds))
        if self.extras is not None:
            self.extras.show_part()
        if kind == "ess":
            self.curve.update()


class _FloorExtras(QWidget):
    """The low cut, and what is done with gaps."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.on = QCheckBox("Low cut")
        self.on.setToolTip("Takes away what lies under the voice; proposed from the lowest notes of this part")
        self.on.clicked.connect(lambda on: desk.set_of_kind("rumble", "on", on))
        self.cut = Slider("", 20, 300, 80, lambda v: f"{v:.0f} Hz", 1, 4)
        self.cut.setToolTip("Where it is 3 dB down; double-click: what the lowest notes propose")
        self.cut.moved.connect(self._cut)
        self.slope = QComboBox()
        for slope in (12, 24, 48):
            self.slope.addItem(f"{slope} dB an octave", slope)
        self.slope.activated.connect(lambda _: desk.set_of_kind("rumble", "slope", self.slope.currentData()))
        self.loss = QLabel("", objectName="soft", wordWrap=True)
        self.how = QComboBox()
        for how, words in (("room tone", "fill gaps with room tone"), ("turn down", "turn gaps down"),
                           ("silence", "silence gaps")):  # fmt: skip
            self.how.addItem(words, how)
        self.how.activated.connect(lambda _: desk.set_of_kind("gap", "how", self.how.currentData()))
        row = QHBoxLayout(spacing=8)
        for widget, stretch in ((self.on, 0), (self.cut, 1), (self.slope, 0)):
            row.addWidget(widget, stretch)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.setSpacing(4)
        column.addLayout(row)
        column.addWidget(self.loss)
        column.addWidget(self.how)

    def _cut(self, value: float, gesture: object) -> None:
        proposed = value == self.cut.default
        self.desk.set_of_kind("rumble", "cut_hz", 0.0 if proposed else value, gesture)

    def show_part(self) -> None:
        """Show the part in hand."""
        part = self.desk.part
        hz = cut_of(RumbleSettings(slope=part.rumble.slope), part.facts.lowest_hz)
        self.on.setChecked(part.rumble.on)
        self.cut.setEnabled(part.rumble.on)
        self.slope.setEnabled(part.rumble.on)
        self.cut.show_value(part.low_cut_hz or part.rumble.cut_hz or hz or 80.0, hz or 80.0)
        self.slope.setCurrentIndex(self.slope.findData(part.rumble.slope))
        self.how.setCurrentIndex(self.how.findData(part.gap.how))
        words = "The lowest notes are not known yet."
        if part.facts.lowest_hz and part.low_cut_hz:
            lost = float(loss_db(part.low_cut_hz, part.rumble.slope, part.facts.lowest_hz))
            words = f"lowest notes {part.facts.lowest_hz:.0f} Hz, they lose {lost:.1f} dB"
            if lost > 2:
                words += ": this eats the voice"
        elif part.facts.lowest_hz:
            words = f"lowest notes {part.facts.lowest_hz:.0f} Hz"
        self.loss.setText(words)


class _BreathExtras(QWidget):
    """Whether the room goes on under a breath that is turned down."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.fill = QCheckBox("the room goes on underneath")
        self.fill.clicked.connect(lambda on: desk.set_of_kind("breath", "fill", on))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.addWidget(self.fill)

    def show_part(self) -> None:
        """Show the part in hand."""
        self.fill.setChecked(self.desk.part.breath.fill)


class _Curve(QWidget):
    """The gain over frequency of the mark in hand."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setMinimumHeight(46)
        self.setAccessibleName("What comes down, over frequency")

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 8, -0.5, -2)
        painter.setPen(QPen(theme.RULE, 1))
        painter.setBrush(theme.PAPER)
        painter.drawRect(box)
        mark = self.desk.mark
        change = self.desk.part.change(mark) if mark else 0.0
        low, high = mark.band if mark else (4_000.0, None)
        freqs = np.geomspace(500, 20_000, 160)
        inside = 1 / (1 + (low / freqs) ** 14) * (1 if high is None else 1 / (1 + (freqs / high) ** 14))
        gain = 20 * np.log10(np.maximum(1e-3, 1 + (10 ** (change / 20) - 1) * inside))
        x = box.left() + np.log(freqs / 500) / np.log(40) * box.width()
        depth = box.height() - 26
        y = box.top() + 7 - gain / 12 * depth
        painter.setClipRect(box)
        painter.setPen(QPen(theme.OVER if change < 0 else theme.SOFT_INK, 2))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
        painter.setPen(theme.SOFT_INK)
        painter.setFont(theme.sans(12))
        if mark is None:
            text = "Take a mark in hand to see what comes down."
        elif change == 0:
            text = "This mark stays as sung."
        else:
            top = "up" if high is None else f"to {high / 1000:.1f} kHz"
            text = f"{theme.signed(change)} dB from {low / 1000:.1f} kHz {top}"
        flags = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom
        painter.drawText(box.adjusted(8, 0, -8, -3), flags, text)
