"""The meter: how loud it is, as sung against cleaned, the true peak, and what the cleaning takes off now."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.translation import tr
from isophon.core.playing.remote import RemotePlayer

_LOWEST_LUFS, _HIGHEST_LUFS = -50.0, -5.0
_SILENT = -70.0
_FALLS_DB = 1.2  # a turn of the clock
_LIMITED_FOR = 20  # turns
_SHOWN_FROM_DB = 0.05
_ROOMY = 202  # the three numbers with their units


def _number(level: float, silent: float) -> str:
    return "−∞" if level <= silent else theme.signed(level)


class Meter(QWidget):
    """A bar of the momentary loudness, on it the short-term loudness as sung (above) and cleaned (below)."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(theme.u(27))
        self.setMinimumWidth(theme.u(96))
        self.setMaximumWidth(theme.u(230))
        self.limited_db = 0.0
        self._levels = dict.fromkeys(("momentary", "short_term", "sung_lufs", "cleaned_lufs", "taken_db"), -150.0)
        self._peak_db, self._limited_for = -150.0, 0
        self.setAccessibleName(tr("Loudness"))
        self.setToolTip(
            "Bar: loudness of the last 0.4 s. Triangles: of the last 3 s, as sung above, cleaned below.\n"
            "Numbers: loudness of the last 3 s in LUFS, true peak in dBTP, and what the cleaning takes off now"
        )

    def sizeHint(self) -> QSize:
        return QSize(theme.u(215), theme.u(27))

    def follow(self, player: RemotePlayer) -> None:
        """Take in the levels of the last moment."""
        true_peak, limited = player.level("true_peak"), player.level("limited_db")
        player.peak()  # from here on anew
        peak_db = max(20 * math.log10(true_peak) if true_peak > 1e-6 else -150.0, self._peak_db - _FALLS_DB)
        self._limited_for = _LIMITED_FOR if limited > _SHOWN_FROM_DB else max(0, self._limited_for - 1)
        self.limited_db = max(limited, self.limited_db) if self._limited_for else 0.0
        levels = {name: player.level(name) if player.playing else -150.0 for name in self._levels}
        if levels != self._levels or peak_db != self._peak_db:
            self._levels, self._peak_db = levels, peak_db
            self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.mono(theme.SMALL))
        painter.setPen(theme.INK)
        top = QRectF(0, 0, self.width(), theme.u(13))
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, tr(self._loudness()))
        painter.setPen(theme.OVER if self._peak_db > -1.0 else theme.INK)
        painter.drawText(top, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, tr(self._peak()))
        taken = self._levels["taken_db"]
        if _SHOWN_FROM_DB < taken < 90:
            painter.setPen(theme.OVER)
            painter.drawText(top, Qt.AlignmentFlag.AlignCenter, theme.signed(-taken))
        bar = QRectF(0, theme.u(17), self.width(), theme.u(6))
        painter.fillRect(bar, theme.RULE)
        painter.fillRect(QRectF(0, bar.top(), self._x(self._levels["momentary"]), bar.height()), theme.DONE)
        for name, edge, way in (("sung_lufs", bar.top(), -1), ("cleaned_lufs", bar.bottom(), 1)):
            if self._levels[name] > _SILENT:
                self._triangle(painter, self._x(self._levels[name]), edge, way)

    def _loudness(self) -> str:
        level = self._levels["short_term"]
        return f"{_number(level, _SILENT)} LUFS" if self._roomy else _number(level, _SILENT)

    def _peak(self) -> str:
        return f"{_number(self._peak_db, -100)} dBTP" if self._roomy else _number(self._peak_db, -100)

    @property
    def _roomy(self) -> bool:
        """Whether there is room for units beside the numbers."""
        return self.width() >= theme.u(_ROOMY)

    def _x(self, level: float) -> float:
        share = (level - _LOWEST_LUFS) / (_HIGHEST_LUFS - _LOWEST_LUFS)
        return min(1.0, max(0.0, share)) * self.width()

    @staticmethod
    def _triangle(painter: QPainter, x: float, edge: float, way: int) -> None:
        size = theme.u(4)
        painter.setPen(QPen(theme.PAPER, 1))
        painter.setBrush(theme.INK)
        points = (QPointF(x, edge), QPointF(x - size, edge + way * size), QPointF(x + size, edge + way * size))
        painter.drawPolygon(QPolygonF(points))
