"""The sheet of the Esses pass: its few settings, and a picture of what comes down."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from isophon.app import theme
from isophon.app.desk import Desk
from isophon.app.slider import Slider
from isophon.core.passes.esses.settings import EssSettings, role_default

_WIDTH = 168


def _decibels(value: float) -> str:
    return f"{theme.signed(value)} dB"


class EssSheet(QWidget):
    """Every setting acts at once and is heard at once; the tick marks the default."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.desk = desk
        default = EssSettings()
        self.sliders = {
            "ceiling_db": Slider("Ceiling over the voice", -24, 12, default.ceiling_db, _decibels, 0.5, _WIDTH),
            "usual_db": Slider("Over the singer’s usual", 0, 18, default.usual_db, _decibels, 0.5, _WIDTH),
            "limit_db": Slider("Never more than", -24, 0, default.limit_db, _decibels, 0.5, _WIDTH),
            "edge_ms": Slider("Edges", 2, 40, default.edge_ms, lambda v: f"{v:.0f} ms", 1, _WIDTH),
            "sure": Slider("Act when this sure", 0, 1, default.sure, lambda v: f"{100 * v:.0f} %", 0.05, _WIDTH),
        }
        tips = {
            "ceiling_db": "What stands out more than this over the voice around it comes down to it",
            "usual_db": "What stands out more than this over the singer’s own usual ess comes down too",
            "limit_db": "No change is deeper than this",
            "edge_ms": "How long the change takes to come and go",
            "sure": "Marks that are less surely an ess are left as sung",
        }
        head = QHBoxLayout()
        self.about = QLabel(objectName="soft")
        head.addWidget(QLabel("Esses", objectName="head"))
        head.addSpacing(10)
        head.addWidget(self.about, 1)
        self.more = QPushButton("More", checkable=True, objectName="plain")
        self.more.toggled.connect(self._show_more)
        self.reset = QPushButton("Defaults", objectName="plain")
        self.reset.setToolTip("All settings back to the role’s default, for the parts in hand")
        self.reset.clicked.connect(desk.role_settings)
        head.addWidget(self.more)
        head.addWidget(self.reset)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 16, 8)
        layout.setSpacing(1)
        layout.addLayout(head)
        for name, slider in self.sliders.items():
            slider.setToolTip(tips[name])
            slider.moved.connect(lambda value, gesture, name=name: desk.set_setting(name, value, gesture))
            layout.addWidget(slider)
        self.curve = _Curve(desk)
        layout.addWidget(self.curve, 1)
        self._show_more(False)
        desk.session_changed.connect(self._show)
        desk.take_changed.connect(self._show)
        desk.hand_changed.connect(self.curve.update)
        self._show()

    def _show_more(self, on: bool) -> None:
        for name in ("edge_ms", "sure"):
            self.sliders[name].setVisible(on)

    def _show(self) -> None:
        part, default = self.desk.part, role_default(self.desk.part.role)
        for name, slider in self.sliders.items():
            slider.show_value(getattr(part.ess, name), getattr(default, name))
        usual, count = part.usual, len(self.desk.parts_in_hand)
        words = "" if usual is None else f"usual ess {theme.signed(usual)} dB over the voice"
        self.about.setText(f"for the {count} parts in hand" if count > 1 else words)
        self.reset.setEnabled(any(
            p.ess != role_default(p.role) for p in self.desk.session.parts if p.id in self.desk.parts_in_hand
        ))  # fmt: skip
        self.curve.update()


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
