"""The stack as one: the marks of all parts at each moment of the song as bars side by side, to be dragged as one."""

from __future__ import annotations

import math

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.keys import keyed
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.keyboard import asks_first, draw_focus
from isophon.app.views.trace_places import RIGHT, margin_left
from isophon.core.session.stack import Column, Held, columns, to_level

_TOP, _BOTTOM, _WIDEST, _GAP, _LEAST = 22, 16, 9.0, 2.0, 3.0
_STEP_DB = 0.5
_OWN_KEYS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down)
_RIGHT_MIDDLE = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_EMPTY = "Where several parts have marks at the same moment, they stand here side by side."


class StackChart(QWidget):
    """Drag a column: all of it that stands higher comes down to there. Click a bar: that part and mark are selected.

    With the focus: left and right go from column to column, up and down move the selected one.
    """

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self._kept: tuple[object, str, list[Column]] | None = None
        self.selected_marks: tuple[float, int] | None = None  # the start of a column, and how many marks it has
        self._level: float | None = None
        self._drag: tuple[Column, QPointF, bool] | None = None
        self._gesture = 0
        self.setMinimumHeight(theme.u(76))
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(tr("Stack"))
        for signal in (workspace.session_changed, workspace.part_changed, workspace.viewport.changed):
            signal.connect(self.update)

    # what is there

    def columns(self) -> list[Column]:
        """The columns of the pass that is open, kept as long as the session is the same."""
        session, kind = self.workspace.session, self.workspace.pass_.kind
        if self._kept is None or self._kept[0] is not session or self._kept[1] != kind:
            self._kept = session, kind, columns(session, kind)
        return self._kept[2]

    def seen(self) -> list[Column]:
        """Those in view."""
        start, end = (t + self.workspace.offset for t in self.workspace.viewport.span)
        return [column for column in self.columns() if column.end >= start and column.start <= end]

    def _plot(self) -> QRectF:
        width, height = self.width() - margin_left() - RIGHT, self.height() - _TOP - _BOTTOM
        return QRectF(margin_left(), _TOP, max(10, width), max(10, height))

    def _range(self) -> tuple[float, float]:
        low, high, lowest, highest = self.workspace.pass_.skyline.bounds
        height = self.workspace.pass_.skyline.height
        heights = [height(one.mark) for column in self.columns() for one in column.marks] or [low]
        top, bottom = 6.0 * math.ceil((max(heights) + 1) / 6), 6.0 * math.floor((min(heights) - 3) / 6)
        return max(min(low, bottom), lowest), min(max(high, top), highest)

    def y_of(self, level: float) -> float:
        """The height of a level."""
        (low, high), plot = self._range(), self._plot()
        return plot.bottom() - (min(high, max(low, level)) - low) / (high - low) * plot.height()

    def level_at(self, y: float) -> float:
        """The level at a height."""
        (low, high), plot = self._range(), self._plot()
        return low + (plot.bottom() - y) / plot.height() * (high - low)

    def bars(self, column: Column) -> list[tuple[Held, QRectF]]:
        """The marks of a column with their bars, as sung, side by side around its middle."""
        plot, (start, end) = self._plot(), (t + self.workspace.offset for t in self.workspace.viewport.span)
        middle = plot.left() + ((column.start + column.end) / 2 - start) / (end - start) * plot.width()
        room = plot.width() / max(1, len(self.seen())) / (len(self.workspace.session.parts) + 1)
        wide = min(_WIDEST, max(_LEAST, room - _GAP))
        left = middle - len(column.marks) * (wide + _GAP) / 2
        height, base = self.workspace.pass_.skyline.height, self._base()
        rows = []
        for i, one in enumerate(column.marks):
            top = self.y_of(height(one.mark))
            rows.append((one, QRectF(left + i * (wide + _GAP), min(top, base), wide, max(1.0, abs(base - top)))))
        return rows

    def _base(self) -> float:
        zero = self.workspace.pass_.skyline.zero
        return self._plot().bottom() if zero is None else self.y_of(zero)

    # painting

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.PAPER)
        self._draw_scale(painter)
        draw_focus(painter, self)
        if not self.columns() or self.workspace.over_frequency:
            painter.setFont(theme.sans(theme.TEXT))
            painter.setPen(theme.SOFT_INK)
            painter.drawText(self._plot(), Qt.AlignmentFlag.AlignCenter, tr(_EMPTY))
            return
        plot = self._plot()
        painter.setClipRect(QRectF(plot.left(), 0, plot.width(), self.height()))
        for column in self.seen():
            self._draw_column(painter, column)

    def _draw_scale(self, painter: QPainter) -> None:
        plot, (low, high) = self._plot(), self._range()
        steps = (6, 12, 24) if self.workspace.pass_.unit == "dB" else (25, 50, 100)
        apart = next((step for step in steps if step / (high - low) * plot.height() >= theme.u(15)), 2 * steps[-1])
        painter.setFont(theme.mono(theme.SMALL))
        for level in range(math.ceil(low / apart) * apart, int(high) + 1, apart):
            y = self.y_of(level)
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(theme.SOFT_INK)
            text = theme.signed(level, 0) + (f" {self.workspace.pass_.unit}" if level + apart > high else "")
            painter.drawText(QRectF(0, y - 9, margin_left() - 8, 18), _RIGHT_MIDDLE, tr(text))

    def _draw_column(self, painter: QPainter, column: Column) -> None:
        """Bars with what goes of them in red, the lead's hollow; a dot where the lead has one too, else a ring."""
        base, rows = self._base(), self.bars(column)
        for one, bar in rows:
            part = self.workspace.session.part(one.part_id)
            change = self.workspace.pass_.skyline.seen_change(part, one.mark)
            top = self.y_of(self.workspace.pass_.skyline.height(one.mark) + change)
            left = QRectF(bar.left(), min(top, base), bar.width(), max(1.0, abs(base - top)))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.OVER_FAINT)
            painter.drawRect(bar)
            painter.setPen(QPen(theme.CONTOUR, 1.4) if one.is_lead else Qt.PenStyle.NoPen)
            painter.setBrush(theme.PAPER if one.is_lead else _ink(one, self.workspace))
            painter.drawRect(left)
        first, last = rows[0][1].left(), rows[-1][1].right()
        if self.selected_marks == (column.start, len(column.marks)):
            painter.setPen(QPen(theme.SELECTED, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            top = min(bar.top() for _, bar in rows)
            painter.drawRect(QRectF(first - 4, top - 4, last - first + 8, self._plot().bottom() - top + 4))
            if self._level is not None:
                y = self.y_of(self._level)
                painter.setPen(QPen(theme.OVER, 2))
                painter.drawLine(QPointF(first - 6, y), QPointF(last + 6, y))
        painter.setPen(QPen(theme.SOFT_INK if column.with_lead else theme.HAND_FLAG, 1.6))
        painter.setBrush(theme.SOFT_INK if column.with_lead else Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QPointF((first + last) / 2, self._plot().bottom() + 7), 3, 3)

    # in the hand

    def _at(self, at: QPointF) -> tuple[Column, Held | None] | None:
        """The column at a place, and the mark whose bar it is."""
        for column in self.seen():
            rows = self.bars(column)
            if rows[0][1].left() - 4 <= at.x() <= rows[-1][1].right() + 4:
                return column, next((one for one, bar in rows if bar.left() - 1 <= at.x() <= bar.right() + 1), None)
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self._at(event.position()) if event.button() == Qt.MouseButton.LeftButton else None
        self._gesture += 1
        self._drag = None if found is None else (found[0], event.position(), False)
        self._take(found[0] if found else None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._drag is None:
            self._tell(event.position())
            return
        column, pressed, moved = self._drag
        if moved or abs(event.position().y() - pressed.y()) > 3:
            self._drag = column, pressed, True
            self._bring(column, self.level_at(event.position().y()), ("stack", self._gesture))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._drag is not None and not self._drag[2] and (found := self._at(event.position())) and found[1]:
            self.workspace.select_part(found[1].part_id)
            self.workspace.select_marks([found[1].mark.id], show=False)
        self._drag, self._level = None, None
        self.update()

    def event(self, event: QEvent) -> bool:
        if asks_first(event, _OWN_KEYS) and not event.modifiers():
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        seen, key = self.seen(), event.key()
        now = next((i for i, one in enumerate(seen) if self.selected_marks == (one.start, len(one.marks))), None)
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and seen:
            step = 1 if key == Qt.Key.Key_Right else -1
            self._take(seen[0 if now is None else (now + step) % len(seen)])
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and now is not None:
            tallest = max(self._left_of(one) for one in seen[now].marks)
            self._bring(seen[now], tallest + (_STEP_DB if key == Qt.Key.Key_Up else -_STEP_DB), ("stack", "keys", now))
        else:
            super().keyPressEvent(event)

    def _left_of(self, one: Held) -> float:
        """How high a mark stands once it was brought down."""
        part = self.workspace.session.part(one.part_id)
        return self.workspace.pass_.skyline.height(one.mark) + part.change(one.mark)

    def _bring(self, column: Column, level: float, gesture: object) -> None:
        """Bring a column down to a level."""
        which = self.workspace.pass_
        if which.hand.by_hand or which.unit != "dB":
            self.workspace.notice.emit(keyed(which.hand.by_hand) or "Words are moved one by one, not as a column.")
            return
        self._level = level
        words = f"column to {theme.signed(level)} dB at {column.start:.1f} s"
        self.workspace.edit(words, lambda s: to_level(s, column, which.kind, level), gesture)

    def _take(self, column: Column | None) -> None:
        self.selected_marks = None if column is None else (column.start, len(column.marks))
        self.update()

    def _tell(self, at: QPointF) -> None:
        found = self._at(at)
        self.setCursor(Qt.CursorShape.ArrowCursor if found is None else Qt.CursorShape.SizeVerCursor)
        if found is None:
            self.setToolTip(_EMPTY)
            return
        height, unit = self.workspace.pass_.skyline.height, self.workspace.pass_.unit
        rows = [f"{self.workspace.session.part(one.part_id).name}: {theme.signed(height(one.mark))} → "
                f"{theme.signed(self._left_of(one))} {unit}" for one in found[0].marks]  # fmt: skip
        self.setToolTip("\n".join((theme.clock(found[0].start), *rows, "Drag: the whole column. Click: this one.")))


def _ink(one: Held, workspace: Workspace) -> QColor:
    return theme.SELECTED if one.part_id == workspace.part.id else theme.INK
