"""The skyline over frequency: where bands stand, the voice's spectrum behind them, and the sum of all cuts."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.core.marks import Mark
from isophon.core.survey import VOICED

LOWEST_HZ, HIGHEST_HZ = 20.0, 20_000.0
_TICKS = (50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000)
_POINTS, _DEPTH_DB = 240, 60.0
_LEAST_WIDTH = 5.0


def x_of(plot: QRectF, hz: float) -> float:
    """The place of a frequency, over octaves."""
    share = math.log(max(hz, 1.0) / LOWEST_HZ) / math.log(HIGHEST_HZ / LOWEST_HZ)
    return plot.left() + share * plot.width()


def hz_at(plot: QRectF, x: float) -> float:
    """The frequency at a place, held within what is shown."""
    share = min(1.0, max(0.0, (x - plot.left()) / plot.width()))
    return LOWEST_HZ * (HIGHEST_HZ / LOWEST_HZ) ** share


def place(plot: QRectF, mark: Mark) -> tuple[float, float]:
    """The middle and the width of a band's bar."""
    low, high = band_of(mark)
    left, right = x_of(plot, low), x_of(plot, high)
    return x_of(plot, math.sqrt(low * high)), max(_LEAST_WIDTH, right - left)


def band_of(mark: Mark) -> tuple[float, float]:
    """Low and high frequency of a band, by hand where set."""
    low = mark.low_hz if mark.hand.low_hz is None else mark.hand.low_hz
    high = mark.high_hz if mark.hand.high_hz is None else mark.hand.high_hz
    return max(low, 1.0), max(high, 1.001 * max(low, 1.0))


def draw_ground(painter: QPainter, plot: QRectF, workspace: Workspace, y_of: Callable[[float], float]) -> None:
    """Frequencies, the spectrum of the sung frames as sung (a line) and cleaned (filled), and the sum of all cuts."""
    painter.setFont(theme.mono(theme.SMALL))
    for tick in _TICKS:
        x = x_of(plot, tick)
        painter.setPen(QPen(theme.RULE, 1))
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        painter.setPen(theme.SOFT_INK)
        box = QRectF(x - 30, plot.top() - theme.u(18), 60, theme.u(16))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, theme.hertz(tick))
    hz = np.geomspace(LOWEST_HZ, HIGHEST_HZ, _POINTS)
    cuts = workspace.pass_.hand.response(workspace.part, hz)
    sung = _spectrum(workspace, hz)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    if sung is not None:
        shown = [np.clip((level + _DEPTH_DB) / _DEPTH_DB, 0, 1) for level in (sung, sung + cuts)]
        lines = [[QPointF(x_of(plot, f), plot.bottom() - v * plot.height()) for f, v in zip(hz, one, strict=True)]
                 for one in shown]  # fmt: skip
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.PANEL.darker(104))
        painter.drawPolygon(QPolygonF([QPointF(plot.left(), plot.bottom()), *lines[1],
                                       QPointF(plot.right(), plot.bottom())]))  # fmt: skip
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.CONTOUR, 1.4))
        painter.drawPolyline(QPolygonF(lines[0]))
    painter.setPen(QPen(theme.SELECTED, 2))
    painter.drawPolyline(QPolygonF([QPointF(x_of(plot, f), y_of(v)) for f, v in zip(hz, cuts, strict=True)]))


def _spectrum(workspace: Workspace, hz: np.ndarray) -> np.ndarray | None:
    """The median of the sung frames in dB under its highest band; None before the survey."""
    surveyed = workspace.take.surveyed
    if surveyed is None:
        return None
    survey = surveyed.survey
    sung = survey.bands[survey.state == VOICED]
    if not len(sung):
        return None
    centres = np.sqrt(survey.band_edges[1:] * survey.band_edges[:-1])
    level = 10 * np.log10(np.median(sung[:: max(1, len(sung) // 4_000)], axis=0) + 1e-16)
    level -= level.max()
    inside = np.interp(np.log(hz), np.log(centres), level)
    return inside - 18 * np.maximum(0, np.log2(centres[0] / hz))
