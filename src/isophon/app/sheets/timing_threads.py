"""The lead's wave over a part's, and threads between the moments that belong together."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPen

from isophon.app import theme
from isophon.app.views.ground import Ground
from isophon.app.views.wave import draw_wave
from isophon.core.passes.timing.mark import WordMark

_TIED = 12.0  # pixels of a word, for its threads


def draw_threads(painter: QPainter, ground: Ground) -> None:
    """The leads' waves on top, its moments tied to those of the part, and where words come to lie."""
    workspace, wave, (start, end) = ground.workspace, ground.wave, ground.view
    part, leads = workspace.part, workspace.session.followed(workspace.part)
    if not leads:
        return
    above = QRectF(wave.left(), wave.top(), wave.width(), wave.height() / 3)
    for lead in leads:
        later, take = part.offset_s - lead.offset_s, workspace.pool.take(lead.source)
        if take.wave is not None:
            rate = take.recording.sample_rate
            draw_wave(painter, above, take, (start + later) * rate, (end + later) * rate, theme.CONTOUR)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for mark in part.of(WordMark):
        if mark.confidence >= part.timing.sure and mark.span[1] >= start and mark.span[0] <= end:
            _draw_word(painter, ground, mark, above)


def _draw_word(painter: QPainter, ground: Ground, mark: WordMark, above: QRectF) -> None:
    part, wave, x_of = ground.workspace.part, ground.wave, ground.x_of
    in_hand = mark.id in ground.workspace.selected_marks
    painter.setPen(QPen(theme.SELECTED if in_hand else theme.HAND_FLAG, 1.1))
    tied = x_of(mark.span[1]) - x_of(mark.span[0]) >= _TIED or in_hand
    for mine, its in mark.anchors if tied else ():
        top = QPointF(x_of(its), above.bottom())
        painter.drawLine(QPointF(top.x(), above.top()), top)
        painter.drawLine(top, QPointF(x_of(mine), above.bottom() + 0.35 * wave.height()))
    if part.acts(mark):  # where the word comes to lie
        left, right = (x_of(part.heard_at(t)) for t in mark.span)
        painter.setPen(QPen(theme.DONE, 3))
        painter.drawLine(QPointF(left, wave.bottom() - 2), QPointF(right, wave.bottom() - 2))
