"""The skyline: one bar a mark, as high as it stands out of the voice, under the ceiling."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QWheelEvent
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.keys import keyed
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views import bar_words, frequencies
from isophon.app.views.bars import draw_bars
from isophon.app.views.ceiling_lines import draw_ceilings, draw_ends
from isophon.app.views.keyboard import draw_focus
from isophon.app.views.label_room import LabelRoom
from isophon.app.views.skyline_gestures import SkylineGestures
from isophon.app.views.skyline_places import SkylinePlaces
from isophon.app.views.soon import Soon
from isophon.app.views.stretched import Span, can_stand_in, draw_in_place, draw_stretched, is_far
from isophon.app.views.trace_places import RIGHT, margin_left
from isophon.core.marks import Mark

_SOON_MS, _SETTLED_AFTER_MS = 30, 60
_RIGHT_MIDDLE = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class Skyline(QWidget):
    """The scale, the bars, the ceilings and their grips. ``gestures``: what the mouse does in it."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.places = SkylinePlaces(workspace, self)
        self.gestures = SkylineGestures(workspace, self, self.places)
        self._numbers = True
        self._plain: tuple[list[tuple[Mark, QRectF]], QPixmap] | None = None
        self._drawn: tuple[list[tuple[Mark, QRectF]], list, QPixmap] | None = None
        self._last: tuple[QPixmap, QPixmap, QPixmap] | None = None  # a picture of bars, the chart without and with it
        self.setMinimumHeight(theme.u(76))
        self._soon = Soon(self, _SOON_MS, self.places.bars, self._blocks, self._picture, self._ready_to_move)
        self._settled = QTimer(self, singleShot=True, interval=_SETTLED_AFTER_MS)
        self._settled.timeout.connect(self._soon.ask)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # the ground is paper, drawn here
        workspace.part_changed.connect(self._soon.ask)
        workspace.selection_changed.connect(self._soon.ask)
        workspace.viewport.changed.connect(self._view_changed)
        workspace.take_changed.connect(self.update)
        workspace.outlined_changed.connect(self.update)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(tr("Skyline"))

    def set_order(self, order: str) -> None:
        """Let the bars stand in time, by height or by risk."""
        self.workspace.order = order
        self.update()

    def set_as_it_will_sound(self, on: bool) -> None:
        """Show how marks stand out after the rough chain, or as they are."""
        self.places.set_as_it_will_sound(on)
        self.update()

    def _picture(self) -> QPixmap:
        """All bars as a picture, kept as long as they are; for a moment also while other changes of them are due."""
        bars, place = self.places.bars(), self.places.looks()
        drawn = self._drawn
        if drawn is None or not (drawn[0] is bars or (self._soon.due and drawn[1] == place)):
            self._numbers = bar_words.room_for_numbers(self.places, bars)
            drawn = self._drawn = bars, place, self._made(bars)
        return drawn[2]

    def _blocks(self) -> QPixmap:
        """The bars without the words at them."""
        bars = self.places.bars()
        if self._plain is None or self._plain[0] is not bars:
            picture = QPixmap(self.size() * self.devicePixelRatioF())
            picture.setDevicePixelRatio(self.devicePixelRatioF())
            picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(picture)
            draw_bars(painter, self.places, bars)
            painter.end()
            self._plain = bars, picture
        return self._plain[1]

    def _made(self, bars: list[tuple[Mark, QRectF]]) -> QPixmap:
        picture = self._blocks().copy()
        painter = QPainter(picture)
        bar_words.draw_letters(painter, self.places, bars)
        for mark, bar in bars:
            if mark.hand.any and not mark.hand.leave:
                bar_words.draw_flag(painter, self.places, mark, bar)
        painter.end()
        return picture

    def _view_changed(self) -> None:
        self._settled.start()
        self.update()

    def paintEvent(self, _event: QPaintEvent) -> None:
        painter = QPainter(self)
        if (drawn := self._standing_in()) is not None:
            self._draw_moved(painter, *drawn)
            return
        painter.fillRect(self.rect(), theme.PAPER)
        self._draw_scale(painter)
        draw_focus(painter, self)
        if self._drawn is None and self._soon.due:
            return  # the first bars are made in turns of their own
        if not self.workspace.marks:
            painter.setFont(theme.sans(theme.TEXT))
            painter.setPen(theme.SOFT_INK)
            painter.drawText(self.places.plot(), Qt.AlignmentFlag.AlignCenter, tr(self.empty_text()))
            return
        painter.setClipRect(QRectF(margin_left(), 0, self.width() - margin_left() - RIGHT, self.height()))
        painter.drawPixmap(0, 0, self._picture())
        bars = self.places.bars()
        self._draw_in_hand(painter, bars)
        painter.setClipping(False)
        draw_ceilings(self.places, painter)
        room = LabelRoom()
        draw_ends(self.places, painter, room, self.gestures.dragged)
        if self._numbers:
            bar_words.draw_numbers(painter, self.places, bars, room)
        if self.gestures.band is not None:
            painter.setPen(QPen(theme.SELECTED, 1, Qt.PenStyle.DashLine))
            painter.drawRect(self.gestures.band)

    def _standing_in(self) -> tuple[Span, list[tuple[Mark, QRectF]], QPixmap] | None:
        """While the view moves: the seconds of the last picture, its bars, and the picture itself."""
        view, drawn = self.workspace.viewport.span, self._drawn
        if drawn is None or not self.workspace.marks or not (self._settled.isActive() or self._soon.due):
            return None
        bars, (of, *how), picture = drawn
        if of == view or how != self.places.looks()[1:] or not can_stand_in(of, view):
            return None
        if is_far(of, view):
            self._soon.ask()
        return of, bars, picture

    def _draw_moved(self, painter: QPainter, of: Span, bars: list[tuple[Mark, QRectF]], picture: QPixmap) -> None:
        """The picture of other seconds where it belongs, with the frames and numbers that it was shown with."""
        empty, with_bars = self._with_and_without(bars, picture)
        box = QRectF(margin_left(), 0, self.places.plot().width(), self.height())
        fixed = QRectF(0, 0, box.left(), box.height()), QRectF(box.right(), 0, self.width() - box.right(), box.height())
        for side in (*fixed, *draw_stretched(painter, with_bars, box, of, self.workspace.viewport.span)):
            draw_in_place(painter, empty, side)
        draw_ends(self.places, painter, LabelRoom(), self.gestures.dragged)
        draw_focus(painter, self)

    def _with_and_without(self, bars: list[tuple[Mark, QRectF]], picture: QPixmap) -> tuple[QPixmap, QPixmap]:
        """The chart without and with its bars, kept for the frames to come."""
        if self._last is not None and self._last[0] is picture:
            return self._last[1:]
        empty = QPixmap(picture.size())
        empty.setDevicePixelRatio(picture.devicePixelRatio())
        empty.fill(theme.PAPER)
        painter = QPainter(empty)
        self._draw_scale(painter)
        painter.end()
        with_bars = empty.copy()
        painter = QPainter(with_bars)
        painter.drawPixmap(0, 0, picture)
        self._draw_in_hand(painter, bars)
        draw_ceilings(self.places, painter)
        if self._numbers and self.places.are_of(bars):
            bar_words.draw_numbers(painter, self.places, bars, LabelRoom())
        painter.end()
        painter = QPainter(empty)
        draw_ceilings(self.places, painter)
        painter.end()
        self._last = picture, empty, with_bars
        return empty, with_bars

    def _ready_to_move(self) -> None:
        """What the next frame needs, if the view is still moving."""
        if self._settled.isActive() and self._drawn is not None:
            bars, _, picture = self._drawn
            self._with_and_without(bars, picture)

    def _draw_in_hand(self, painter: QPainter, bars: list[tuple[Mark, QRectF]]) -> None:
        in_hand = set(self.workspace.selected_marks)
        for _, bar in (one for one in bars if one[0].id in in_hand):
            bar_words.draw_frame(painter, bar)
        outlined = {mark.id for mark in self.workspace.outlined_here()}
        for _, bar in (one for one in bars if one[0].id in outlined):
            bar_words.draw_frame(painter, bar, Qt.PenStyle.DotLine)

    @property
    def empty(self) -> bool:
        """Whether there is nothing to be seen but a line that says what to do."""
        return not self.workspace.marks and not self.workspace.over_frequency

    def empty_text(self) -> str:
        """What to do where there are no marks."""
        part = self.workspace.part
        if not self.workspace.session.parts:
            return "There is no part here yet. Add recordings in Lay out (1)."
        if self.workspace.take.trouble:
            return self.workspace.take.trouble
        if not part.found:
            return f"The {self.workspace.pass_.words.many} appear here once this part has been analysed."
        if self.workspace.part.voice_lufs is None:
            return "No voice was found here to measure against."
        words = self.workspace.pass_.words
        draw_it = keyed("Drag over the ruler to select one, then press {draw} to draw it.")
        found_none = f"No {words.many} were found. {draw_it}"
        return words.empty(part) or found_none

    def _draw_scale(self, painter: QPainter) -> None:
        plot = self.places.plot()
        low, high = self.places.range_db()
        painter.setFont(theme.mono(theme.SMALL))
        tags = self.places.tags().values() if self.workspace.marks else ()
        if self.workspace.over_frequency:
            frequencies.draw_ground(painter, plot, self.workspace, self.places.y_of)
        usual = None if self.workspace.over_frequency else self.places.measured()[1]
        if usual:
            top, bottom = self.places.y_of(usual[1]), self.places.y_of(usual[0])
            painter.fillRect(QRectF(plot.left(), top, plot.width(), bottom - top), theme.PANEL.darker(103))
        steps = (6, 12, 24) if self.workspace.pass_.unit == "dB" else (25, 50, 100)
        apart = next((step for step in steps if step / (high - low) * plot.height() >= theme.u(15)), 2 * steps[-1])
        for level in range(int(np.ceil(low / apart) * apart), int(high) + 1, apart):
            y = self.places.y_of(level)
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(theme.SOFT_INK)
            if any(tag.top() - 8 < y < tag.bottom() + 8 for tag in tags):
                continue
            text = theme.signed(level, 0) + (f" {self.workspace.pass_.unit}" if level + apart > high else "")
            painter.drawText(QRectF(0, y - 9, margin_left() - 8, 18), _RIGHT_MIDDLE, tr(text))
        painter.setPen(QPen(theme.INK, 1.2))
        zero = self.workspace.pass_.skyline.zero
        y = plot.bottom() if zero is None else self.places.y_of(zero)
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    # what the mouse does

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.gestures.press(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.gestures.move(event)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self.gestures.release(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.gestures.double_click(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.gestures.wheel(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.gestures.ask_for_menu(event)
