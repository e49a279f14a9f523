"""The skyline: one bar a mark, as high as it stands out of the voice, under the ceiling."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.workspace import IN_TIME, TALLEST, Workspace
from isophon.app.views import bar_words, frequencies
from isophon.app.views.bars import draw_bars
from isophon.app.views.ceiling_lines import draw_ceilings, draw_ends, tags_of
from isophon.app.views.keyboard import draw_focus
from isophon.app.views.label_room import LabelRoom
from isophon.app.views.soon import Soon
from isophon.app.views.stretched import Span, can_stand_in, draw_in_place, draw_stretched, is_far
from isophon.app.views.trace_chart import RIGHT, margin_left
from isophon.core.marks import Mark
from isophon.core.session.chain_curves import more_after

_SOON_MS, _SETTLED_AFTER_MS = 30, 60
_BAR = bar_words.BAR
_ENOUGH = 4  # marks, to tell what is usual
_TOP, _BOTTOM = 26, bar_words.BOTTOM
_RIGHT_MIDDLE = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class SkylineChart(QWidget):
    """What is seen: the scale, the bars, the ceilings and their grips."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self._will_sound = False
        self.numbers = True
        self._kept: tuple[tuple, list[tuple[Mark, QRectF]]] | None = None
        self._plain: tuple[list[tuple[Mark, QRectF]], QPixmap] | None = None
        self._drawn: tuple[list[tuple[Mark, QRectF]], list, QPixmap] | None = None
        self._last: tuple[QPixmap, QPixmap, QPixmap] | None = None  # a picture of bars, the chart without and with it
        self._range_of: tuple[object, object, tuple[tuple[float, float], tuple[float, float] | None]] | None = None
        self._band: tuple[QPointF, QPointF] | None = None
        self.setMinimumHeight(theme.u(76))
        self._soon = Soon(self, _SOON_MS, self.bars, self._blocks, self._picture, self._ready_to_move)
        self._settled = QTimer(self, singleShot=True, interval=_SETTLED_AFTER_MS)
        self._settled.timeout.connect(self._soon.ask)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)  # the ground is paper, drawn here
        workspace.part_changed.connect(self._soon.ask)
        workspace.selection_changed.connect(self._soon.ask)
        workspace.viewport.changed.connect(self._view_changed)
        workspace.take_changed.connect(self.update)
        workspace.outlined_changed.connect(self.update)

    # geometry

    dragged = ""  # the setting of the ceiling that is dragged

    def set_order(self, order: str) -> None:
        """Let the bars stand in time, by height or by risk."""
        self.workspace.order = order
        self.update()

    def set_as_it_will_sound(self, on: bool) -> None:
        """Show how marks stand out after the rough chain, or as they are."""
        self._will_sound, self._range_of = on, None
        self.update()

    def stands_out(self, mark: Mark) -> float:
        """What a mark's bar is as high as."""
        return self._heights()(mark)

    def _heights(self) -> Callable[[Mark], float]:
        """The same for any mark; asked for once where there are hundreds."""
        which, part = self.workspace.pass_, self.workspace.part
        voice, rate = part.voice_lufs, part.source.sample_rate
        if voice is None or not (self._will_sound and which.skyline.will_sound):
            return which.skyline.height
        chain = self.workspace.session.chain
        return lambda mark: which.skyline.height(mark) + more_after(chain, voice, mark, rate)

    def plot(self) -> QRectF:
        """Where the bars stand, in pixels."""
        width, height = self.width() - margin_left() - RIGHT, self.height() - _TOP - _BOTTOM
        return QRectF(margin_left(), _TOP, max(10, width), max(10, height))

    def _range(self) -> tuple[float, float]:
        """Lowest and highest dB shown; moves only in steps so that the chart stays calm."""
        return self._measured()[0]

    def _measured(self) -> tuple[tuple[float, float], tuple[float, float] | None]:
        """The range, and between what the middle half of the marks lies, None for few."""
        which, changes = self.workspace.pass_, self.workspace.part.changes
        seen = which, self.workspace.over_frequency
        if self._range_of is None or self._range_of[0] is not changes or self._range_of[1] != seen:
            low, high, lowest, highest = which.skyline.bounds
            sure = getattr(getattr(self.workspace.part, which.kind), "sure", 0.0)
            height, marks = self._heights(), self.workspace.marks
            surely = list(map(height, [mark for mark in marks if mark.confidence >= sure]))
            heights = (surely if which.skyline.zero is not None else list(map(height, marks))) or [low]
            top = max(high, 6.0 * math.ceil((max(heights) + 1) / 6))
            bottom = min(low, 6.0 * math.floor((min(heights) - 3) / 6))
            usual = tuple(np.percentile(surely, [25, 75])) if len(surely) >= _ENOUGH else None
            self._range_of = changes, seen, ((max(bottom, lowest), min(top, highest)), usual)
        return self._range_of[2]

    def y_of(self, level_db: float) -> float:
        """The height of a stand-out."""
        low, high = self._range()
        plot = self.plot()
        return plot.bottom() - (level_db - low) / (high - low) * plot.height()

    def db_at(self, y: float) -> float:
        """The stand-out at a height."""
        low, high = self._range()
        plot = self.plot()
        return float(low + (plot.bottom() - y) / plot.height() * (high - low))

    def bars(self) -> list[tuple[Mark, QRectF]]:
        """Each mark in view with its full bar, as sung."""
        key = self.workspace.part.changes, *self._looks()
        if self._kept is None or key[0] is not self._kept[0][0] or key[1:] != self._kept[0][1:]:
            self._kept = key, self._bars()
        return self._kept[1]

    def _looks(self) -> list:
        """How a part's bars are shown."""
        workspace = self.workspace
        return [workspace.viewport.span, workspace.part.id, workspace.pass_, workspace.over_frequency, workspace.order,
                self.size(), self.devicePixelRatioF(), self._will_sound, workspace.session.chain,
                theme.in_force()]  # fmt: skip

    def _picture(self) -> QPixmap:
        """All bars as a picture, kept as long as they are; for a moment also while other changes of them are due."""
        bars, place = self.bars(), self._looks()
        drawn = self._drawn
        if drawn is None or not (drawn[0] is bars or (self._soon.due and drawn[1] == place)):
            self.numbers = bar_words.room_for_numbers(self, bars)
            drawn = self._drawn = bars, place, self._made(bars)
        return drawn[2]

    def _blocks(self) -> QPixmap:
        """The bars without the words at them."""
        bars = self.bars()
        if self._plain is None or self._plain[0] is not bars:
            picture = QPixmap(self.size() * self.devicePixelRatioF())
            picture.setDevicePixelRatio(self.devicePixelRatioF())
            picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(picture)
            draw_bars(painter, self, bars)
            painter.end()
            self._plain = bars, picture
        return self._plain[1]

    def _made(self, bars: list[tuple[Mark, QRectF]]) -> QPixmap:
        picture = self._blocks().copy()
        painter = QPainter(picture)
        bar_words.draw_letters(painter, self, bars)
        for mark, bar in bars:
            if mark.hand.any and not mark.hand.leave:
                bar_words.draw_flag(painter, self, mark, bar)
        painter.end()
        return picture

    def _bars(self) -> list[tuple[Mark, QRectF]]:
        plot, height_of, by_time = self.plot(), self._heights(), self.workspace.order == IN_TIME
        crowd = by_time and not self.workspace.pass_.skyline.over_frequency
        marks = self.workspace.marks_seen(int(plot.width())) if crowd else self.workspace.marks
        low, high = self._range()
        if self.workspace.over_frequency:
            places = [(m, *frequencies.place(plot, m)) for m in marks]
        elif not by_time:
            shown = {mark.id for mark in marks}
            ranked = self.workspace.ranked(self.workspace.part, self.workspace.pass_)
            marks = tuple(mark for mark in ranked if mark.id in shown)
            if self.workspace.order == TALLEST:  # as they will sound, perhaps
                marks = tuple(sorted(marks, key=lambda m: -height_of(m)))
            step = plot.width() / max(1, len(marks))
            places = [(m, plot.left() + (i + 0.5) * step, min(_BAR, 0.7 * step)) for i, m in enumerate(marks)]
        else:
            start, end = self.workspace.viewport.span
            scale = plot.width() / (end - start)
            left = plot.left()
            places = [
                (m, left + ((a + b) / 2 - start) * scale, max(4.0, min(_BAR, (b - a) * scale)))
                for m in marks
                for a, b in (m.span,)
                if b >= start and a <= end
            ]
        zero, tall = self.workspace.pass_.skyline.zero, plot.height() / (high - low)
        bottom = plot.bottom() if zero is None else self.y_of(zero)
        heights = [(height_of(m) - (low if zero is None else zero)) * tall for m, _, _ in places]
        heights = [max(1.0, height) for height in heights] if zero is None else heights
        return [
            (m, QRectF(x - width / 2, bottom - max(0.0, height), width, max(1.0, abs(height))))
            for (m, x, width), height in zip(places, heights, strict=True)
        ]

    def ceilings(self) -> list[tuple[str, str, float, bool]]:
        """The proposals: setting, words, height in dB, and whether it is the one in force."""
        return self.workspace.pass_.skyline.ceilings(self.workspace.part)

    # painting

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
            painter.drawText(self.plot(), Qt.AlignmentFlag.AlignCenter, self.empty_text())
            return
        painter.setClipRect(QRectF(margin_left(), 0, self.width() - margin_left() - RIGHT, self.height()))
        painter.drawPixmap(0, 0, self._picture())
        bars = self.bars()
        self._draw_in_hand(painter, bars)
        painter.setClipping(False)
        draw_ceilings(self, painter)
        room = LabelRoom()
        draw_ends(self, painter, room)
        bar_words.draw_numbers(painter, self, bars, room)
        if self._band:
            painter.setPen(QPen(theme.SELECTED, 1, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(*self._band).normalized())

    def _standing_in(self) -> tuple[Span, list[tuple[Mark, QRectF]], QPixmap] | None:
        """While the view moves: the seconds of the last picture, its bars, and the picture itself."""
        view, drawn = self.workspace.viewport.span, self._drawn
        if drawn is None or not self.workspace.marks or not (self._settled.isActive() or self._soon.due):
            return None
        bars, (of, *how), picture = drawn
        if of == view or how != self._looks()[1:] or not can_stand_in(of, view):
            return None
        if is_far(of, view):
            self._soon.ask()
        return of, bars, picture

    def _draw_moved(self, painter: QPainter, of: Span, bars: list[tuple[Mark, QRectF]], picture: QPixmap) -> None:
        """The picture of other seconds where it belongs, with the frames and numbers that it was shown with."""
        empty, with_bars = self._with_and_without(bars, picture)
        box = QRectF(margin_left(), 0, self.plot().width(), self.height())
        fixed = QRectF(0, 0, box.left(), box.height()), QRectF(box.right(), 0, self.width() - box.right(), box.height())
        for side in (*fixed, *draw_stretched(painter, with_bars, box, of, self.workspace.viewport.span)):
            draw_in_place(painter, empty, side)
        draw_ends(self, painter, LabelRoom())
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
        draw_ceilings(self, painter)
        changes = self.workspace.part.changes
        if self._kept and self._kept[1] is bars and self._kept[0][0] is changes:  # else marks may be gone by now
            bar_words.draw_numbers(painter, self, bars, LabelRoom())
        painter.end()
        painter = QPainter(empty)
        draw_ceilings(self, painter)
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
        found_none = f"No {words.many} were found. Drag over the ruler to select one, then press N to draw it."
        return words.empty(part) or found_none

    def _draw_scale(self, painter: QPainter) -> None:
        plot = self.plot()
        low, high = self._range()
        painter.setFont(theme.mono(theme.SMALL))
        tags = self.tags().values() if self.workspace.marks else ()
        if self.workspace.over_frequency:
            frequencies.draw_ground(painter, plot, self.workspace, self.y_of)
        usual = None if self.workspace.over_frequency else self._measured()[1]
        if usual:
            top, bottom = self.y_of(usual[1]), self.y_of(usual[0])
            painter.fillRect(QRectF(plot.left(), top, plot.width(), bottom - top), theme.PANEL.darker(103))
        steps = (6, 12, 24) if self.workspace.pass_.unit == "dB" else (25, 50, 100)
        apart = next((step for step in steps if step / (high - low) * plot.height() >= theme.u(15)), 2 * steps[-1])
        for level in range(int(np.ceil(low / apart) * apart), int(high) + 1, apart):
            y = self.y_of(level)
            painter.setPen(QPen(theme.RULE, 1))
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            painter.setPen(theme.SOFT_INK)
            if any(tag.top() - 8 < y < tag.bottom() + 8 for tag in tags):
                continue
            text = theme.signed(level, 0) + (f" {self.workspace.pass_.unit}" if level + apart > high else "")
            painter.drawText(QRectF(0, y - 9, margin_left() - 8, 18), _RIGHT_MIDDLE, text)
        painter.setPen(QPen(theme.INK, 1.2))
        zero = self.workspace.pass_.skyline.zero
        y = plot.bottom() if zero is None else self.y_of(zero)
        painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))

    def tags(self) -> dict[str, QRectF]:
        """The grips of the ceilings on the axis, by their settings."""
        return tags_of(self)
