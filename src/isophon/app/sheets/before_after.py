"""Marks before and after, in two rows of dots on one scale: what was there, and where the settings bring it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.sheets.picture import Scale, SheetPicture, dots, steps
from isophon.app.translation import tr
from isophon.core.session.model import Part

_MOST = 400  # dots; more are thinned


class BeforeAfter(SheetPicture):
    """``values(part)``: before and after; ``lines(part)``: values that matter, with words; ``after``: of the row."""

    unit, after, nothing = "dB", "cleaned", ""

    def values(self, part: Part) -> tuple[np.ndarray, np.ndarray]:
        """Before and after, one a mark; after: nan where nothing is left."""
        raise NotImplementedError

    def lines(self, part: Part) -> list[tuple[float, str]]:
        """The values that matter."""
        raise NotImplementedError

    def draw(self, painter: QPainter, box: QRectF) -> str:
        part = self.workspace.part
        before, after = self.values(part)
        if not len(before):
            return self.nothing
        lines = self.lines(part)
        low, high = self._range(np.concatenate([before, after[np.isfinite(after)], [value for value, _ in lines]]))
        scale = Scale(box, low, high)
        at = steps(low, high, 6)
        scale.draw(painter, at, [f"{theme.signed(value, 0)} {self.unit}" if value == at[-1] else theme.signed(value, 0)
                                 for value in at])  # fmt: skip
        rows = box.top() + 0.38 * box.height(), box.top() + 0.8 * box.height()
        thin = slice(None, None, -(-len(before) // _MOST))
        painter.setClipRect(box)
        gone = ~np.isfinite(after)
        shown = np.where(gone, low, after)
        for a, b in zip(scale.x(before[thin]), scale.x(shown[thin]), strict=True):
            painter.setPen(QPen(theme.OVER_FAINT if abs(a - b) > 0.5 else theme.RULE, 1))
            painter.drawLine(QLineF(a, rows[0], b, rows[1]))
        dots(painter, scale.x(before[thin]), rows[0], theme.SOFT_INK, False)
        dots(painter, scale.x(after[thin][~gone[thin]]), rows[1], theme.DONE, True)
        for value, words in lines:
            x = float(scale.x(value))
            painter.setPen(QPen(theme.OVER, 1.5))
            painter.drawLine(QLineF(x, box.top() + theme.u(14), x, box.bottom()))
            width = theme.text_width(words, theme.SMALL)
            painter.drawText(QPointF(max(box.left() + 3, min(box.right() - width - 3, x - width / 2)),
                                     box.top() + theme.u(11)), tr(words))  # fmt: skip
        painter.setPen(theme.SOFT_INK)
        caption = f"{self.after}; {int(gone.sum())} removed" if gone.any() else self.after
        for row, words in zip(rows, ("as sung", caption), strict=True):
            here = QRectF(box.left() + 4, row - theme.u(19), box.width() - 8, theme.u(14))
            painter.drawText(here, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, tr(words))
        painter.setClipping(False)
        return ""

    @staticmethod
    def _range(values: np.ndarray) -> tuple[float, float]:
        low, high = float(values.min()), float(values.max())
        margin = max(3.0, 0.06 * (high - low))
        return low - margin, high + margin
