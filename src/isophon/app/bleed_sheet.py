"""The Bleed sheet's extras: learning, what was found, and pictures of the delay and the path."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from isophon.app import theme
from isophon.app.desk import Desk
from isophon.core.passes.bleed.settings import Leak

_PATH_MS = (-3.0, 45.0)


class BleedExtras(QWidget):
    """Learn, switch, and see."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.on = QCheckBox("Take it out")
        self.on.clicked.connect(lambda on: desk.set_of_kind("bleed", "on", on))
        self.learn = QPushButton("Learn here")
        self.learn.setToolTip("Find the cue in the parts in hand and learn how it reached the microphone")
        self.learn.clicked.connect(lambda: desk.learn_bleed())
        self.learn_all = QPushButton("Learn in all parts")
        self.learn_all.clicked.connect(lambda: desk.learn_bleed([p.id for p in desk.session.parts]))
        for button in (self.learn, self.learn_all):
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.words = QLabel("", objectName="soft", wordWrap=True)
        self.picture = LeakPicture(desk)
        row = QHBoxLayout(spacing=8)
        for widget in (self.on, self.learn, self.learn_all):
            row.addWidget(widget)
        row.addStretch(1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 2)
        column.setSpacing(3)
        column.addLayout(row)
        column.addWidget(self.words)
        column.addWidget(self.picture, 1)

    def show_part(self) -> None:
        """Show the part in hand."""
        part, leak = self.desk.part, self.desk.part.leak
        self.on.setChecked(part.bleed.on)
        self.on.setEnabled(bool(leak and leak.key))
        self.words.setText(_told(leak, any(g.kind == "cue" for g in self.desk.session.guides)))
        self.picture.update()


def _told(leak: Leak | None, has_cue: bool) -> str:
    if leak is None:
        return "Not learned yet." if has_cue else "Add the headphone feed in Lay out (1) and call it the cue."
    if not leak.key:
        return f"No leak of {', '.join(leak.cues)} was found; nothing is taken out. Move the cue, or leave it."
    drift = f", drifts {theme.signed(leak.ppm)} ppm" if leak.ppm else ""
    return f"{', '.join(leak.cues)}: heard {1000 * leak.delay_s:.2f} ms later{drift}; {leak.less_db:.0f} dB less of it"


class LeakPicture(QWidget):
    """Left: how alike take and cue are at each delay. Right: the learned path over time."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setMinimumHeight(56)
        self.setAccessibleName("The delay and the learned path")

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width = (self.width() - 8) / 2
        boxes = (QRectF(0.5, 1, width - 1, self.height() - 2), QRectF(width + 8, 1, width - 1, self.height() - 2))
        painter.setBrush(theme.PAPER)
        for box in boxes:
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawRect(box)
        leak = self.desk.part.leak
        if leak is None or not leak.heights:
            return
        self._draw_delay(painter, boxes[0], leak)
        if leak.path:
            self._draw_path(painter, boxes[1], leak)

    def _draw_delay(self, painter: QPainter, box: QRectF, leak: Leak) -> None:
        heights = np.frombuffer(leak.heights, np.uint8) / 255
        x = np.linspace(box.left(), box.right(), len(heights))
        y = box.bottom() - 16 - heights * (box.height() - 22)
        painter.setPen(QPen(theme.IN_HAND if leak.key else theme.SOFT_INK, 1.2))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
        first, last = leak.lags
        _words(painter, box, (f"{first:+.1f} s", "cue against take", f"{last:+.1f} s"))

    def _draw_path(self, painter: QPainter, box: QRectF, leak: Leak) -> None:
        taps = np.frombuffer(leak.path, np.float32)
        ways = max(1, round(len(taps) / (0.075 * leak.rate)))
        path = taps.reshape(ways, -1)[0]
        ms = (np.arange(len(path)) / leak.rate - leak.before_s) * 1_000
        shown = (ms >= _PATH_MS[0]) & (ms <= _PATH_MS[1])
        full = float(np.abs(path).max()) + 1e-12
        x = box.left() + (ms[shown] - _PATH_MS[0]) / (_PATH_MS[1] - _PATH_MS[0]) * box.width()
        y = box.center().y() - 6 - path[shown] / full * (box.height() / 2 - 10)
        painter.setPen(QPen(theme.INK, 1))
        painter.drawPolyline(QPolygonF([QPointF(a, b) for a, b in zip(x, y, strict=True)]))
        _words(painter, box, (f"{_PATH_MS[0]:.0f} ms", "learned path", f"{_PATH_MS[1]:.0f} ms"))


def _words(painter: QPainter, box: QRectF, words: tuple[str, str, str]) -> None:
    painter.setFont(theme.sans(11))
    painter.setPen(theme.SOFT_INK)
    foot = QRectF(box.left() + 4, box.bottom() - 16, box.width() - 8, 14)
    sides = (Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight)
    for text, side in zip(words, sides, strict=True):
        painter.drawText(foot, side | Qt.AlignmentFlag.AlignVCenter, text)
