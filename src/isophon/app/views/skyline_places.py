"""Where everything in the skyline stands: the scale of heights, the bars, the ceilings and their grips."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QRectF
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.workspace import IN_TIME, TALLEST, Workspace
from isophon.app.views import frequencies
from isophon.app.views.trace_places import RIGHT, margin_left
from isophon.core.marks import Mark
from isophon.core.session.chain_curves import more_after

BAR, BOTTOM = 11.0, 12  # the width of a bar and what is under the bars, pixels
_TOP = 26
_TAG_HEIGHT = 18.0
_ENOUGH = 4  # marks, to tell what is usual


class SkylinePlaces:
    """The bars of the marks in view, as high as they stand out, in the pixels of a widget."""

    def __init__(self, workspace: Workspace, widget: QWidget) -> None:
        self.workspace, self._widget = workspace, widget
        self._as_it_will_sound = False
        self._kept: tuple[tuple, list[tuple[Mark, QRectF]]] | None = None
        self._range_of: tuple[object, object, tuple[tuple[float, float], tuple[float, float] | None]] | None = None

    def set_as_it_will_sound(self, on: bool) -> None:
        """Let marks stand out as they will after the rough chain, or as they are."""
        self._as_it_will_sound, self._range_of = on, None

    @property
    def width(self) -> int:
        """Of the widget, pixels."""
        return self._widget.width()

    def are_of(self, bars: list[tuple[Mark, QRectF]]) -> bool:
        """Whether bars are those of the marks as they are now; else some may be gone."""
        kept = self._kept
        return kept is not None and kept[1] is bars and kept[0][0] is self.workspace.part.changes

    def stands_out(self, mark: Mark) -> float:
        """What a mark's bar is as high as."""
        return self.heights()(mark)

    def heights(self) -> Callable[[Mark], float]:
        """The same for any mark; asked for once where there are hundreds."""
        which, part = self.workspace.pass_, self.workspace.part
        voice, rate = part.voice_lufs, part.source.sample_rate
        if voice is None or not (self._as_it_will_sound and which.skyline.will_sound):
            return which.skyline.height
        chain = self.workspace.session.chain
        return lambda mark: which.skyline.height(mark) + more_after(chain, voice, mark, rate)

    def plot(self) -> QRectF:
        """Where the bars stand, in pixels."""
        width, height = self.width - margin_left() - RIGHT, self._widget.height() - _TOP - BOTTOM
        return QRectF(margin_left(), _TOP, max(10, width), max(10, height))

    def range_db(self) -> tuple[float, float]:
        """Lowest and highest dB shown; moves only in steps so that the chart stays calm."""
        return self.measured()[0]

    def measured(self) -> tuple[tuple[float, float], tuple[float, float] | None]:
        """The range, and between what the middle half of the marks lies, None for few."""
        which, changes = self.workspace.pass_, self.workspace.part.changes
        seen = which, self.workspace.over_frequency
        if self._range_of is None or self._range_of[0] is not changes or self._range_of[1] != seen:
            low, high, lowest, highest = which.skyline.bounds
            sure = getattr(getattr(self.workspace.part, which.kind), "sure", 0.0)
            height, marks = self.heights(), self.workspace.marks
            surely = list(map(height, [mark for mark in marks if mark.confidence >= sure]))
            heights = (surely if which.skyline.zero is not None else list(map(height, marks))) or [low]
            top = max(high, 6.0 * math.ceil((max(heights) + 1) / 6))
            bottom = min(low, 6.0 * math.floor((min(heights) - 3) / 6))
            usual = tuple(np.percentile(surely, [25, 75])) if len(surely) >= _ENOUGH else None
            self._range_of = changes, seen, ((max(bottom, lowest), min(top, highest)), usual)
        return self._range_of[2]

    def y_of(self, level_db: float) -> float:
        """The height of a stand-out."""
        low, high = self.range_db()
        plot = self.plot()
        return plot.bottom() - (level_db - low) / (high - low) * plot.height()

    def db_at(self, y: float) -> float:
        """The stand-out at a height."""
        low, high = self.range_db()
        plot = self.plot()
        return float(low + (plot.bottom() - y) / plot.height() * (high - low))

    def bars(self) -> list[tuple[Mark, QRectF]]:
        """Each mark in view with its full bar, as sung."""
        key = self.workspace.part.changes, *self.looks()
        if self._kept is None or key[0] is not self._kept[0][0] or key[1:] != self._kept[0][1:]:
            self._kept = key, self._bars()
        return self._kept[1]

    def looks(self) -> list:
        """How a part's bars are shown."""
        workspace = self.workspace
        return [workspace.viewport.span, workspace.part.id, workspace.pass_, workspace.over_frequency, workspace.order,
                self._widget.size(), self._widget.devicePixelRatioF(), self._as_it_will_sound, workspace.session.chain,
                theme.in_force()]  # fmt: skip

    def _bars(self) -> list[tuple[Mark, QRectF]]:
        plot, height_of, by_time = self.plot(), self.heights(), self.workspace.order == IN_TIME
        crowd = by_time and not self.workspace.pass_.skyline.over_frequency
        marks = self.workspace.marks_seen(int(plot.width())) if crowd else self.workspace.marks
        low, high = self.range_db()
        if self.workspace.over_frequency:
            places = [(m, *frequencies.place(plot, m)) for m in marks]
        elif not by_time:
            shown = {mark.id for mark in marks}
            ranked = self.workspace.ranked(self.workspace.part, self.workspace.pass_)
            marks = tuple(mark for mark in ranked if mark.id in shown)
            if self.workspace.order == TALLEST:  # as they will sound, perhaps
                marks = tuple(sorted(marks, key=lambda m: -height_of(m)))
            step = plot.width() / max(1, len(marks))
            places = [(m, plot.left() + (i + 0.5) * step, min(BAR, 0.7 * step)) for i, m in enumerate(marks)]
        else:
            start, end = self.workspace.viewport.span
            scale = plot.width() / (end - start)
            left = plot.left()
            places = [
                (m, left + ((a + b) / 2 - start) * scale, max(4.0, min(BAR, (b - a) * scale)))
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

    def tags(self) -> dict[str, QRectF]:
        """The grips of the ceilings on the axis, by their settings, moved apart where they would overlap."""
        places = sorted((self.y_of(level), setting) for setting, _, level, _ in self.ceilings())
        for i in range(1, len(places)):
            crowded = _TAG_HEIGHT + 1 - (places[i][0] - places[i - 1][0])
            if crowded > 0:
                places[i - 1] = (places[i - 1][0] - (crowded / 2 if i == 1 else 0), places[i - 1][1])
                places[i] = (places[i - 1][0] + _TAG_HEIGHT + 1, places[i][1])
        return {name: QRectF(4, y - _TAG_HEIGHT / 2, margin_left() - 8, _TAG_HEIGHT) for y, name in places}
