"""Where everything in the trace stands: its rows, and times from left to right."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QRectF
from PySide6.QtWidgets import QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace

RIGHT = 16
_OVERVIEW, _RULER, _NAMES, _SIGNS = 28, 24, 15, 16
_WAVE, _WAVE_HIGH = (0.12, 30, 56), (0.13, 36, 100)  # of what is left: how much, from and to how many pixels


def margin_left() -> int:
    """The room for the axes' numbers, of the trace and all charts under it."""
    return theme.u(64)


class TracePlaces:
    """The times in view and the rows of the trace, in the pixels of a widget."""

    def __init__(self, workspace: Workspace, widget: QWidget) -> None:
        self.workspace, self._widget = workspace, widget

    def plot_width(self) -> float:
        """How wide the time in view is, pixels."""
        return max(10.0, self._widget.width() - margin_left() - RIGHT)

    def x_of(self, seconds: Any) -> Any:
        """Where a time, or many, are from left to right, pixels."""
        start, end = self.workspace.viewport.span
        return margin_left() + (seconds - start) / (end - start) * self.plot_width()

    def time_at(self, x: float) -> float:
        """The time at a place from left to right."""
        start, end = self.workspace.viewport.span
        return start + (x - margin_left()) / self.plot_width() * (end - start)

    def rows(self) -> tuple[QRectF, QRectF, QRectF, QRectF]:
        """Where overview, ruler, wave and map stand."""
        width, top = self.plot_width(), 2
        names = theme.u(_NAMES) if self.workspace.markers_shown()[0] else 0
        rest = self._widget.height() - top - _OVERVIEW - _RULER - names - _SIGNS - 2
        share, least, most = _WAVE_HIGH if self.workspace.pass_.trace.high else _WAVE
        wave = min(max(share * rest, least), most)
        return (
            QRectF(margin_left(), top, width, _OVERVIEW),
            QRectF(margin_left(), top + _OVERVIEW, width, _RULER),
            QRectF(margin_left(), top + _OVERVIEW + _RULER + names, width, wave),
            QRectF(margin_left(), top + _OVERVIEW + _RULER + names + wave + _SIGNS, width, max(10, rest - wave)),
        )

    def song_x(self, seconds: Any) -> Any:
        """The place of a time, or of many, in the overview."""
        first, last = self.workspace.song
        return margin_left() + (seconds - first) / (last - first) * self.plot_width()
