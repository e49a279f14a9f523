"""The title row: the session's name and state, the route as a line of stations, undo and redo."""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QFrame, QMenu, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.audibility import time_for
from isophon.app.model.audition import ALL_HEARD, WITHOUT
from isophon.app.sheets import PASSES
from isophon.app.translation import tr
from isophon.app.views.keyboard import asks_first, draw_focus
from isophon.app.views.labels import ElidedLabel
from isophon.app.views.made import make_column, make_row, named
from isophon.core.passes import BY_NAME

STATIONS = ("Lay out", *(which.name for which in PASSES), "Hand over")
_SIDE, _HEIGHT, _LEAST, _USUAL = 36, 46, 52, 78
_NEXT = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)
LAY_OUT, HAND_OVER = 0, len(STATIONS) - 1


class Count(NamedTuple):
    """The marks of a pass in all parts: over their ceilings, undecided, and over but never heard."""

    over: int
    undecided: int
    unheard: int


_LEARNED = {i for i, which in enumerate(PASSES, 1) if not BY_NAME[which.kind].found_in_take}


class Route(QWidget):
    """The stations in working order; a click opens one. Over each pass the number of undecided marks in all parts; its
    ring fills as they are decided. The ear beside a pass says how it is heard; a click on it: the next way.
    """

    station_chosen = Signal(int)
    ear_asked = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.current = LAY_OUT
        self._counts: dict[int, Count] = {}
        self._risky: dict[int, int] = {}
        self._audible: dict[int, tuple[int, int]] = {}
        self._stale = False
        self._aside: tuple[int, str] = (LAY_OUT, ALL_HEARD)
        self.setMinimumSize(theme.u(_LEAST) * len(STATIONS), theme.u(_HEIGHT))
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setMouseTracking(True)
        self.setAccessibleName(tr("Route"))

    def sizeHint(self) -> QSize:
        return QSize(theme.u(_USUAL) * len(STATIONS), theme.u(_HEIGHT))

    def show_counts(self, counts: dict[int, Count], stale: bool) -> None:
        """What is undecided, by station.

        ``stale``: the bleed has changed since the other passes found theirs; their stations are dashed.
        """
        self._counts, self._stale = counts, stale
        self._tell()
        self.update()

    def show_risky(self, counts: dict[int, int]) -> None:
        """How many undecided marks are risky, by station."""
        if counts != self._risky:
            self._risky = counts
            self._tell()
            self.update()

    def show_audible(self, counts: dict[int, tuple[int, int]]) -> None:
        """How many undecided marks are worth hearing, and how many cannot be heard in the mix, by station."""
        if counts != self._audible:
            self._audible = counts
            self._tell()

    def worth_hearing(self, station: int) -> str:
        """How many of its marks are worth hearing and how long that takes, in words; '' where all are decided."""
        worth, inaudible = self._audible.get(station, (0, 0))
        words = [f"{worth} worth hearing, {time_for(worth)}"] if worth else []
        words += [f"{inaudible} cannot be heard in the mix"] if inaudible else []
        return "; ".join(words)

    def show_station(self, index: int) -> None:
        """Which station is open."""
        self.current = index
        self._tell()
        self.update()

    def show_aside(self, index: int, how: str) -> None:
        """Which pass is left out, or alone, for listening."""
        self._aside = index, how
        self._tell()
        self.update()

    def _tell(self) -> None:
        tip = [f"{STATIONS[i]}: {c.undecided} undecided of {c.over} over their ceilings, {c.unheard} not played yet"
                + (f", {self._risky[i]} risky" if self._risky.get(i) else "")
                + (f"; {words}" if (words := self.worth_hearing(i)) else "")
                for i, c in self._counts.items()]  # fmt: skip
        if self._stale:
            tip.append("Dashed: find again, since the bleed has changed")
        index, how = self._aside
        if how != ALL_HEARD:
            tip.append(f"Plays now: {how}, {STATIONS[index]} (X, or a click on the ear)")
        self.setToolTip("\n".join(tip))
        self.setAccessibleDescription(tr(f"{STATIONS[self.current]}. " + ". ".join(tip)))

    def place(self, index: int) -> QPointF:
        """Where a station stands."""
        side = theme.u(_SIDE)
        return QPointF(side + index * (self.width() - 2 * side) / (len(STATIONS) - 1), theme.u(17))

    def ear(self, index: int) -> QRectF:
        """Where the ear of a pass is; empty where it has none now."""
        shown = LAY_OUT < index < HAND_OVER and (index == self.current or index == self._aside[0])
        at = self.place(index)
        return QRectF(at.x() - theme.u(26), at.y() - theme.u(7), theme.u(14), theme.u(14)) if shown else QRectF()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.CONTOUR, 2))
        painter.drawLine(self.place(0), self.place(len(STATIONS) - 1))
        room = (self.width() - 2 * theme.u(_SIDE)) / (len(STATIONS) - 1)
        painter.setFont(theme.sans(theme.TEXT, theme.QFont.Weight.Bold))
        fits = all(painter.fontMetrics().horizontalAdvance(tr(name)) < room - 4 for name in STATIONS)
        for i, name in enumerate(STATIONS):
            at, here = self.place(i), i == self.current
            self._draw_ring(painter, i, at)
            painter.setPen(theme.SELECTED if here else theme.INK)
            size = theme.TEXT if fits else theme.SMALL
            painter.setFont(theme.sans(size, theme.QFont.Weight.Bold if here else theme.QFont.Weight.Normal))
            wide = max(room, 2 * theme.u(_SIDE)) if i in (LAY_OUT, HAND_OVER) else room  # nothing stands beyond these
            box = QRectF(at.x() - wide / 2, theme.u(27), wide, theme.u(18))
            shown = painter.fontMetrics().elidedText(tr(name), Qt.TextElideMode.ElideRight, round(wide) - 2)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, shown)
            count = self._counts.get(i)
            if count and count.undecided:
                painter.setPen(theme.SOFT_INK)
                painter.setFont(theme.mono(theme.SMALL))
                box = QRectF(at.x() + theme.u(9), 0, room, theme.u(14))
                painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, str(count.undecided))
            if risky := self._risky.get(i):
                self._draw_risky(painter, at, risky)
            if not self.ear(i).isEmpty():
                self._draw_ear(painter, i)
        draw_focus(painter, self)

    @staticmethod
    def _draw_risky(painter: QPainter, at: QPointF, count: int) -> None:
        """A small triangle, as at cuts that come close to a word, and how many."""
        left, y = at.x() + theme.u(10), at.y() + theme.u(8)
        size = theme.u(7)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.HAND_FLAG)
        painter.drawPolygon(QPolygonF([QPointF(left, y), QPointF(left + size, y), QPointF(left + size / 2, y - size)]))
        painter.setPen(theme.SOFT_INK)
        painter.setFont(theme.mono(theme.SMALL))
        box = QRectF(left + size + 2, y - theme.u(11), theme.u(40), theme.u(14))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, str(count))

    def _draw_ring(self, painter: QPainter, i: int, at: QPointF) -> None:
        """A ring that fills as marks are decided; of the station that is open, blue."""
        here, size = i == self.current, theme.u(7)
        again = self._stale and LAY_OUT < i < HAND_OVER and i not in _LEARNED
        line = Qt.PenStyle.DotLine if again else Qt.PenStyle.SolidLine
        painter.setPen(QPen(theme.SELECTED if here else theme.INK, 2.4, line))
        painter.setBrush(theme.PAPER)
        painter.drawEllipse(at, size, size)
        count = self._counts.get(i)
        share = 1 - count.undecided / count.over if count and count.over else 0.0
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.DONE)
        inner = QRectF(at.x() - size + 2.5, at.y() - size + 2.5, 2 * size - 5, 2 * size - 5)
        painter.drawPie(inner, 90 * 16, -round(360 * 16 * share))
        if here and share < 1:
            painter.setBrush(theme.SELECTED)
            painter.drawEllipse(at, theme.u(2.5), theme.u(2.5))

    def _draw_ear(self, painter: QPainter, i: int) -> None:
        """A small loudspeaker with its waves: blue where the pass is left out, and struck through, or alone."""
        box, (aside, how) = self.ear(i), self._aside
        how = how if aside == i else ALL_HEARD
        ink = theme.SOFT_INK if how == ALL_HEARD else theme.SELECTED
        unit = box.width() / 14
        painter.setPen(QPen(ink, 1.4))
        painter.setBrush(ink if how != WITHOUT else Qt.BrushStyle.NoBrush)
        points = ((1, 5), (4, 5), (8, 2), (8, 12), (4, 9), (1, 9))
        painter.drawPolygon(QPolygonF([QPointF(box.left() + unit * x, box.top() + unit * y) for x, y in points]))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if how == WITHOUT:
            painter.drawLine(box.topLeft(), box.bottomRight())
        else:
            arc = QRectF(box.left() + 6 * unit, box.top() + 3 * unit, 7 * unit, 8 * unit)
            painter.drawArc(arc, -60 * 16, 120 * 16)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        ear = next((i for i in range(len(STATIONS)) if self.ear(i).adjusted(-2, -4, 4, 4).contains(at)), None)
        if ear is not None:
            self.ear_asked.emit(ear)
            return
        index = min(range(len(STATIONS)), key=lambda i: abs(at.x() - self.place(i).x()))
        if abs(at.x() - self.place(index).x()) < theme.u(38):
            self.station_chosen.emit(index)

    def event(self, event: QEvent) -> bool:
        """While it has the focus, Return and Space open the next station."""
        if asks_first(event, _NEXT) and not event.modifiers():
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in _NEXT:
            self.station_chosen.emit((self.current + 1) % len(STATIONS))
        else:
            event.ignore()


class TitleRow(QFrame):
    """The row at the top."""

    def __init__(self, menu: QMenu, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.name, self.state = ElidedLabel("title"), ElidedLabel("soft")
        self.route = Route()
        self.undo, self.redo = named(QPushButton(tr("Undo")), "plain"), named(QPushButton(tr("Redo")), "plain")
        self.more = named(QPushButton(tr("More")), "plain")
        self.more.setToolTip("Saving, history, versions, markers, voice cards, preferences, help")
        self.more.setMenu(menu)
        texts = make_column(between=0)
        texts.addWidget(self.name)
        texts.addWidget(self.state)
        row = make_row(self, around=(12, 0, 8, 0))
        row.addWidget(_Badge())
        row.addLayout(texts, 2)
        row.addWidget(self.route, 6)
        row.addWidget(self.undo)
        row.addWidget(self.redo)
        row.addWidget(self.more)


class _Badge(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(40, 36)

    def paintEvent(self, _event: QPaintEvent) -> None:
        theme.draw_badge(QPainter(self), QRectF(2, 2, 36, 32))
