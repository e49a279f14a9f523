"""A picture of a span of time in the place of another one, moved and stretched, until that is drawn itself."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPixmap

Span = tuple[float, float]
_SCALES = (0.6, 1.6)  # beyond these the picture looks wrong
_SAME_SCALE = 0.5  # of a pixel, at the far end
_LEAST_SHARED = 0.7  # of the span in view


def _shared(of: Span, view: Span) -> float:
    """How much of a view a picture of another one shows."""
    return (min(of[1], view[1]) - max(of[0], view[0])) / (view[1] - view[0])


def can_stand_in(of: Span, view: Span) -> bool:
    """Whether a picture of one span shows anything of another one."""
    return _shared(of, view) > 0


def is_far(of: Span, view: Span) -> bool:
    """Whether a picture of one span shows another one so badly that it has to be drawn anew."""
    scale = (of[1] - of[0]) / (view[1] - view[0])
    return not _SCALES[0] <= scale <= _SCALES[1] or _shared(of, view) < _LEAST_SHARED


def draw_in_place(painter: QPainter, picture: QPixmap, box: QRectF) -> None:
    """Draw a box of a picture where it is."""
    ratio = picture.devicePixelRatio()
    painter.drawPixmap(box, picture, QRectF(box.topLeft() * ratio, box.size() * ratio))


def draw_span(painter: QPainter, picture: QPixmap, source: QRectF, of: Span, box: QRectF, span: Span) -> None:
    """Draw some seconds of a picture into a box; ``source``: where in it the seconds ``of`` are, in its own pixels."""
    left, right = (source.left() + (t - of[0]) / (of[1] - of[0]) * source.width() for t in span)
    painter.drawPixmap(box, picture, QRectF(left, source.top(), right - left, source.height()))


def draw_stretched(painter: QPainter, picture: QPixmap, box: QRectF, of: Span, view: Span) -> list[QRectF]:
    """Draw what a box of a picture shows where it belongs in the same box; what is left of that.

    Parameters
    ----------
    box : in pixels of the widget; as wide as both spans
    of, view : the seconds that the picture shows, and those that are in view

    Returns
    -------
    the parts of the box for which the picture has nothing, from left to right
    """
    scale, ratio = (of[1] - of[0]) / (view[1] - view[0]), picture.devicePixelRatio()
    start = box.left() + (of[0] - view[0]) / (view[1] - view[0]) * box.width()
    if abs(scale - 1) * box.width() < _SAME_SCALE:  # by whole pixels, which takes half as long
        scale, start = 1.0, round(start * ratio) / ratio
    left, right = max(box.left(), start), min(box.right(), start + scale * box.width())
    source = QRectF(box.left() + (left - start) / scale, box.top(), (right - left) / scale, box.height())
    target = QRectF(left, box.top(), right - left, box.height())
    painter.drawPixmap(target, picture, QRectF(source.topLeft() * ratio, source.size() * ratio))
    sides = (QRectF(box.left(), box.top(), left - box.left(), box.height()),
             QRectF(right, box.top(), box.right() - right, box.height()))  # fmt: skip
    return [side for side in sides if side.width() > 0]
