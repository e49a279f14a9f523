"""The sheets: the few settings of each pass, and a picture of what comes down."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QButtonGroup,
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
from isophon.app.bleed_sheet import BleedExtras
from isophon.app.desk import Desk
from isophon.app.floor_sheet import FloorNoise
from isophon.app.passes import PASSES, Pass
from isophon.app.slider import Slider
from isophon.core.passes.ticks.settings import DAMAGE
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
        self.again = QPushButton("Look again", objectName="plain")
        self.again.setToolTip("The bleed has changed since the marks were found: find them as the take is now; "
                              "what was decided by hand stays")  # fmt: skip
        self.again.clicked.connect(desk.leaks.look_again)
        self.noise = FloorNoise(desk) if which.kind == "gap" else None
        if self.noise is not None:
            head.addLayout(self._add_sides())
        self.extras = _EXTRAS.get(which.kind, lambda _: None)(desk)
        if which.kind == "bleed":
            head.addWidget(self.extras.on)
            head.addSpacing(8)
        head.addWidget(self.again)
        head.addWidget(self.more)
        head.addWidget(self.reset)
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(12, 8, 16, 8)
        self._column.setSpacing(1)
        self._column.addLayout(head)
        if self.noise is not None:
            self._column.addWidget(self.noise, 1)
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
        elif self.noise is None and which.kind != "bleed":
            self._column.addStretch(1)
        self._show_more(False)
        self.more.setVisible(self.noise is not None or any(knob.more for knob in which.knobs))
        desk.part_changed.connect(self._show)
        desk.take_changed.connect(self._show)
        if self.noise is not None:
            desk.hand_changed.connect(self.noise.show_part)
        self._show()

    def _add_sides(self) -> QHBoxLayout:
        """The Floor has two sides: what lies under the voice, and what lies between the words."""
        self.under, self.between = (QPushButton(text, checkable=True) for text in ("noise", "gaps"))
        self.under.setToolTip("Low cut, hum and hiss: what lies under the voice all the time")
        self.between.setToolTip("What is done between the words")
        sides = QButtonGroup(self)
        row = QHBoxLayout(spacing=0)
        for button in (self.under, self.between):
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            sides.addButton(button)
            row.addWidget(button)
        self.under.setChecked(True)
        self.between.toggled.connect(lambda _: self._show_more(self.more.isChecked()))
        return row

    def _show_more(self, on: bool) -> None:
        between = self.noise is None or self.between.isChecked()
        for knob in self.which.knobs:
            self.sliders[knob.name].setVisible(between and (on or not knob.more))
        if self.noise is not None:
            self.extras.setVisible(between)
            self.noise.setVisible(not between)
            self.noise.show_more(on)

    def _show(self) -> None:
        part, kind = self.desk.part, self.which.kind
        settings, default = getattr(part, kind), role_default(kind, part.role)
        for name, slider in self.sliders.items():
            slider.show_value(getattr(settings, name), getattr(default, name))
        if kind == "gap":
            self.sliders["down_db"].setEnabled(settings.how == "turn down")
        usual, count = part.usual, len(self.desk.parts_in_hand)
        words = ""
        if kind == "ess" and usual is not None:
            words = f"usual ess {theme.signed(usual)} dB over the voice"
        self.about.setText(f"for the {count} parts in hand" if count > 1 else words)
        kinds = self.which.kinds
        parts = [p for p in self.desk.session.parts if p.id in self.desk.parts_in_hand]
        self.reset.setEnabled(any(getattr(p, k) != role_default(k, p.role) for p in parts for k in kinds))
        self.again.setVisible(any(p.stale for p in parts))
        for inner in (self.extras, self.noise):
            if inner is not None:
                inner.show_part()
        if kind == "ess":
            self.curve.update()


class _GapExtras(QWidget):
    """What is done with gaps."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.how = QComboBox()
        for how, words in (("room tone", "fill gaps with room tone"), ("turn down", "turn gaps down"),
                           ("silence", "silence gaps")):  # fmt: skip
            self.how.addItem(words, how)
        self.how.activated.connect(lambda _: desk.set_of_kind("gap", "how", self.how.currentData()))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.addWidget(self.how)

    def show_part(self) -> None:
        """Show the part in hand."""
        self.how.setCurrentIndex(self.how.findData(self.desk.part.gap.how))


class _TickExtras(QWidget):
    """Whether damage is mended too, and how much of it there is."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.mend = QCheckBox("")
        self.mend.clicked.connect(lambda on: desk.set_of_kind("tick", "mend", on))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.addWidget(self.mend)

    def show_part(self) -> None:
        """Show the part in hand."""
        part = self.desk.part
        counts = [sum(m.sound == sound for m in part.of_kind("tick")) for sound in DAMAGE]
        told = [
            f"{n} {one}{'s' if n > 1 else ''}" for n, one in zip(counts, ("clipped place", "dropout"), strict=True) if n
        ]
        self.mend.setText(f"mend {' and '.join(told)}" if told else "no clipped peaks, no dropouts")
        self.mend.setEnabled(bool(told))
        self.mend.setChecked(part.tick.mend)


class _PopExtras(QWidget):
    """How pops can be heard on small loudspeakers."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.lift = QCheckBox("hear what is taken out lifted by 300 Hz")
        self.lift.setToolTip("For small loudspeakers, on which pops are not heard: only while taken out is heard")
        self.lift.clicked.connect(desk.set_lifted)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 4)
        column.addWidget(self.lift)

    def show_part(self) -> None:
        """Show the part in hand."""
        self.lift.setChecked(self.desk.lifted)


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


_EXTRAS = {"bleed": BleedExtras, "gap": _GapExtras, "pop": _PopExtras, "tick": _TickExtras, "breath": _BreathExtras}
