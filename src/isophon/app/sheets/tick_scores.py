"""How sure ticks are, over how far they stand out: those that are repaired, and those that are left."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.sheets.picture import Scale, SheetPicture, dots, steps
from isophon.app.translation import tr
from isophon.core.passes.tick.mark import TickMark

_MOST = 600


class TickScores(SheetPicture):
    """One dot a tick; the lines are the ceiling and the minimum confidence."""

    kind = "tick"
    words = "Each tick: how far it stands out against the voice around it, and how sure it is no pulse of the voice"

    def draw(self, painter: QPainter, box: QRectF) -> str:
        """Draw it into a box."""
        part = self.workspace.part
        marks = [mark for mark in part.of(TickMark) if not mark.sound][:_MOST]
        if not marks:
            return "No ticks were found in this part." if part.found else ""
        height = np.array([mark.standout_db for mark in marks])
        sure = np.array([100 * mark.confidence for mark in marks])
        acts = np.array([part.acts(mark) for mark in marks])
        ceiling = part.tick.ceiling_db
        scale = Scale(box, min(height.min(), ceiling) - 3, max(height.max(), ceiling) + 3)
        at = steps(scale.low, scale.high, 6)
        scale.draw(painter, at, [f"{theme.signed(v, 0)} dB" if v == at[-1] else theme.signed(v, 0) for v in at])

        def y(percent: np.ndarray | float) -> np.ndarray:
            return box.bottom() - 6 - np.asarray(percent) / 100 * (box.height() - theme.u(22))

        painter.setPen(QPen(theme.OVER, 1.5))
        x, level = float(scale.x(ceiling)), float(y(100 * part.tick.sure))
        painter.drawLine(QLineF(x, box.top() + theme.u(13), x, box.bottom()))
        painter.drawLine(QLineF(box.left(), level, box.right(), level))
        dots(painter, scale.x(height[~acts]), y(sure[~acts]), theme.SOFT_INK, False)
        dots(painter, scale.x(height[acts]), y(sure[acts]), theme.OVER, True)
        painter.setPen(theme.SOFT_INK)
        words = f"{int(acts.sum())} of {len(marks)} repaired; higher: surer"
        painter.drawText(QPointF(box.left() + 5, box.top() + theme.u(11)), tr(words))
        return ""
