"""The title row: the session's name and state, the route as a line of stations, undo and redo."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMenu, QPushButton, QVBoxLayout, QWidget

from isophon.app import theme
from isophon.app.sheets import PASSES
from isophon.core.passes import BY_NAME

STATIONS = ("Lay out", *(which.name for which in PASSES), "Hand over")
_SIDE = 42
LAY_OUT, HAND_OVER = 0, len(STATIONS) - 1
_LEARNED = {i for i, which in enumerate(PASSES, 1) if BY_NAME[which.kind].learned}


class Route(QWidget):
    """The stations in working order; a click opens one. Over the ceiling: a number beside the station."""

    station_chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.current = LAY_OUT
        self._counts: dict[int, tuple[int, int]] = {}
        self._stale = False
        self.setMinimumSize(86 * len(STATIONS), 56)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Route")

    def sizeHint(self) -> QSize:
        return QSize(90 * len(STATIONS), 56)

    def show_counts(self, counts: dict[int, tuple[int, int]], stale: bool) -> None:
        """By station: how many marks of all parts are over their ceilings, and how many of those still unheard.

        ``stale``: the bleed has changed since the other passes found theirs; their stations are dashed.
        """
        self._counts, self._stale = counts, stale
        told = [f"{STATIONS[i]}: {over} over, {unheard} of them still unheard" for i, (over, unheard) in counts.items()]
        if stale:
            told.append("Dashed: ought to look again, since the bleed has changed")
        self.setToolTip("\n".join(told))
        self.update()

    def show_station(self, index: int) -> None:
        """Which station is open."""
        self.current = index
        self.update()

    def place(self, index: int) -> QPointF:
        """Where a station stands."""
        return QPointF(_SIDE + index * (self.width() - 2 * _SIDE) / (len(STATIONS) - 1), 25)

    def paintEvent(self, event) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.CONTOUR, 2))
        painter.drawLine(self.place(0), self.place(len(STATIONS) - 1))
        for i, name in enumerate(STATIONS):
            at, here = self.place(i), i == self.current
            again = self._stale and LAY_OUT < i < HAND_OVER and i not in _LEARNED
            line = Qt.PenStyle.DotLine if again else Qt.PenStyle.SolidLine
            painter.setPen(QPen(theme.IN_HAND if here else theme.INK, 2.4, line))
            painter.setBrush(theme.IN_HAND if here and not again else theme.PAPER)
            painter.drawEllipse(at, 7, 7)
            if here and again:
                painter.setBrush(theme.IN_HAND)
                painter.drawEllipse(at, 2.5, 2.5)
            painter.setPen(theme.IN_HAND if here else theme.INK)
            painter.setFont(theme.sans(14, theme.QFont.Weight.Bold if here else theme.QFont.Weight.Normal))
            painter.drawText(QRectF(at.x() - 70, 35, 140, 18), Qt.AlignmentFlag.AlignCenter, name)
            over, unheard = self._counts.get(i, (0, 0))
            if over:
                painter.setPen(theme.OVER)
                painter.setFont(theme.sans(12, theme.QFont.Weight.DemiBold))
                text = f"{over}, {unheard} new" if unheard else f"{over} over"
                painter.drawText(QRectF(at.x() - 70, 0, 140, 15), Qt.AlignmentFlag.AlignCenter, text)

    def mousePressEvent(self, event) -> None:
        near = [i for i in range(len(STATIONS)) if abs(event.position().x() - self.place(i).x()) < 38]
        if near:
            self.station_chosen.emit(near[0])

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.station_chosen.emit((self.current + 1) % len(STATIONS))
        else:
            event.ignore()


class TitleRow(QFrame):
    """The row at the top."""

    def __init__(self, menu: QMenu, parent: QWidget | None = None) -> None:
        super().__init__(parent, objectName="panel")
        self.name, self.state = QLabel("", objectName="title"), QLabel("", objectName="soft")
        self.route = Route()
        self.undo, self.redo = QPushButton("Undo", objectName="plain"), QPushButton("Redo", objectName="plain")
        self.more = QPushButton("More", objectName="plain")
        self.more.setMenu(menu)
        for button in (self.undo, self.redo, self.more):
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        texts = QVBoxLayout(spacing=0)
        texts.addWidget(self.name)
        texts.addWidget(self.state)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 12, 6)
        row.setSpacing(10)
        row.addWidget(_Badge())
        row.addLayout(texts, 1)
        row.addWidget(self.route, 0)
        row.addStretch(1)
        row.addWidget(self.undo)
        row.addWidget(self.redo)
        row.addWidget(self.more)


class _Badge(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(40, 36)

    def paintEvent(self, event) -> None:
        theme.draw_badge(QPainter(self), QRectF(2, 2, 36, 32))
