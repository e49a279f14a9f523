"""A typical pause of the part: how the sound dies away into it and comes back, and how the gap fades over that."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF
from PySide6.QtGui import QPainter, QPen, QPolygonF

from isophon.app import theme
from isophon.app.sheets.picture import Scale, SheetPicture, line, points
from isophon.app.translation import tr
from isophon.core.passes.gap.mark import GapMark
from isophon.core.survey import Survey

_BEFORE_S, _INTO_S = 0.25, 0.45
_MOST = 60
_DEPTH_DB, _GAIN_DB = 70.0, 40.0


class GapFades(SheetPicture):
    """The middle of all pauses as a line, half of them as a band, at both ends; the gap's gain in red."""

    kind = "gap"
    words = "The level at the ends of this part's pauses (line: the middle one), and how gaps fade out and in (red)"

    def draw(self, painter: QPainter, box: QRectF) -> str:
        """Draw it into a box."""
        part, surveyed = self.workspace.part, self.workspace.take.surveyed
        marks = [mark for mark in part.of(GapMark) if mark.end - mark.start > _INTO_S][:_MOST]
        if surveyed is None or not marks:
            return "No pause of this part is long enough to show how gaps fade." if part.found else ""
        middle = box.center().x()
        halves = (
            QRectF(box.left(), box.top(), box.width() / 2, box.height()),
            QRectF(middle, box.top(), box.width() / 2, box.height()),
        )
        settings = part.gap
        ends = ((False, settings.after_ms, settings.closes_ms), (True, settings.before_ms, settings.opens_ms))
        painter.setClipRect(box)
        for half, (opens, stays_ms, fade_ms) in zip(halves, ends, strict=True):
            scale = Scale(half, -_INTO_S, _BEFORE_S) if opens else Scale(half, -_BEFORE_S, _INTO_S)
            self._draw_levels(painter, scale, surveyed.survey, [m.end if opens else m.start for m in marks])
            self._draw_gain(painter, scale, stays_ms / 1000, fade_ms / 1000, opens)
        painter.setClipping(False)
        painter.setPen(QPen(theme.CONTOUR, 1))
        painter.drawLine(QLineF(middle, box.top(), middle, box.bottom()))
        painter.setPen(theme.SOFT_INK)
        for half, words in zip(halves, ("after a word", "before a word"), strict=True):
            caption = f"{words}, {_BEFORE_S + _INTO_S:.1f} s"
            painter.drawText(QPointF(half.left() + 5, box.bottom() + theme.u(11)), tr(caption))
        return ""

    @staticmethod
    def _draw_levels(painter: QPainter, scale: Scale, survey: Survey, places: list[float]) -> None:
        hops = np.arange(round(scale.low / survey.hop_s), round(scale.high / survey.hop_s))
        rows = np.array([round(place / survey.hop_s) for place in places])[:, None] + hops
        power = survey.k_power[np.clip(rows, 0, len(survey.k_power) - 1)]
        levels = np.percentile(10 * np.log10(power + 1e-12), (25, 50, 75), axis=0)
        top = 10 * np.log10(np.percentile(survey.k_power, 98) + 1e-12)
        y = scale.box.top() + (top - levels) / _DEPTH_DB * scale.box.height()
        x = scale.x(hops * survey.hop_s)
        painter.setPen(QPen(theme.RULE, 0))
        painter.setBrush(theme.RULE)
        painter.drawPolygon(QPolygonF([*points(x, y[0]), *reversed(points(x, y[2]))]))
        painter.setPen(QPen(theme.INK, 1.6))
        painter.drawPolyline(line(x, y[1]))

    def _draw_gain(self, painter: QPainter, scale: Scale, stays_s: float, fade_s: float, opens: bool) -> None:
        deepest = -self.workspace.part.gap.down_db if self.workspace.part.gap.how == "turn down" else _GAIN_DB
        at = np.linspace(scale.low, scale.high, 240)
        inside = (-at if opens else at) - stays_s
        share = 0.5 - 0.5 * np.cos(np.pi * np.clip(inside / max(fade_s, 1e-3), 0, 1))
        gain = -20 * np.log10(np.maximum(1 - share * (1 - 10 ** (-deepest / 20)), 1e-4))
        painter.setPen(QPen(theme.OVER, 2))
        y = scale.box.top() + theme.u(16) + gain / _GAIN_DB * (scale.box.height() - theme.u(22))
        painter.drawPolyline(line(scale.x(at), np.minimum(y, scale.box.bottom() - 3)))
