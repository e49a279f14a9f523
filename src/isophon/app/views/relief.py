"""Levels printed on paper like the relief of a map: ink is what stays, red is what goes, with lines of equal level."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from contourpy import contour_generator
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF
from scipy import ndimage

from isophon.app import theme
from isophon.core.takes.changes import added, removed
from isophon.core.takes.pictures import QUIETEST_DB

TINTS, STEP_DB = 7, 6.0
_DARKEST_UNDER_VOICE = 14.0  # dB: from here up the last tint
_DARKEST, _REDDEST, _PALEST_RED = 0.94, 0.66, 0.16
_DEFAULT_VOICE = -24.0
_SMOOTH = 0.7  # of a row and a column
_LINED, _SHORTEST = (3, 4, 5, 6, 7), 26  # tints whose edges get a line; points of a line
_LINE_ALPHA, _RED_LINE_ALPHA = 110, 190


def tints(levels: np.ndarray, voice_lufs: float | None) -> np.ndarray:
    """Which of the seven tints levels in half dB steps have against the voice's level, 0: paper."""
    voice = _DEFAULT_VOICE if voice_lufs is None else voice_lufs
    lowest = voice - _DARKEST_UNDER_VOICE - TINTS * STEP_DB
    steps = (levels / 2 + QUIETEST_DB - lowest) / STEP_DB
    return np.clip(np.floor(steps) + 1, 0, TINTS).astype(np.uint8)


@lru_cache(maxsize=4)
def _print() -> np.ndarray:
    """Colours ``(ink, red, added)`` of each tint of each, one printed over the other, ``(8, 8, 8)`` uint32."""
    paper = _rgb(theme.PAPER)
    ink = _veil(theme.INK, np.linspace(0, _DARKEST, TINTS + 1))
    strength = np.concatenate([[0.0], np.linspace(_PALEST_RED, _REDDEST, TINTS)])
    red, more = _veil(theme.OVER, strength), _veil(theme.ADDED, strength)
    colour = np.round(paper * ink[:, None, None] * red[None, :, None] * more[None, None, :]).astype(np.uint32)
    return np.uint32(0xFF000000) | colour[..., 0] << 16 | colour[..., 1] << 8 | colour[..., 2]


def _rgb(colour: QColor) -> np.ndarray:
    return np.array(colour.getRgb()[:3], float)


def _veil(colour: QColor, strength: np.ndarray) -> np.ndarray:
    """How much of each of the paper's colours shines through a colour printed so strongly, ``(n, 3)``."""
    paper = _rgb(theme.PAPER)
    return (paper + strength[:, None] * (_rgb(colour) - paper)) / paper


def printed(sung: np.ndarray, cleaned: np.ndarray, voice_lufs: float | None) -> QImage:
    """The picture of what stays and what goes, a pixel a level; ``sung``, ``cleaned``: uint8 ``(rows, columns)``."""
    return _image(*(tints(one, voice_lufs) for one in (cleaned, removed(sung, cleaned), added(sung, cleaned))))


def drawn(
    sung: np.ndarray, cleaned: np.ndarray, voice_lufs: float | None, size: tuple[int, int], lines: bool
) -> QImage:
    """The same, smooth and ``size`` (width, height) large; ``lines``: with lines of equal level, 6 dB apart."""
    width, height = size
    stays, goes, comes = (_stretched(one, height, width)
                          for one in (cleaned, removed(sung, cleaned), added(sung, cleaned)))  # fmt: skip
    image = _image(*(tints(one, voice_lufs) for one in (stays, goes, comes)))
    if lines:
        _draw_lines(image, stays, goes, voice_lufs)
    return image


def _image(ink: np.ndarray, red: np.ndarray, more: np.ndarray) -> QImage:
    pixels = np.ascontiguousarray(_print()[ink, red, more])
    height, width = pixels.shape
    return QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32).copy()


def _stretched(picture: np.ndarray, height: int, width: int) -> np.ndarray:
    """Levels between those of a picture, float32 ``(height, width)``."""
    smooth = ndimage.gaussian_filter(picture.astype(np.float32), _SMOOTH)
    for axis, count in ((0, height), (1, width)):
        have = smooth.shape[axis]
        at = np.clip((np.arange(count) + 0.5) * have / count - 0.5, 0, have - 1).astype(np.float32)
        first = np.minimum(at.astype(int), max(0, have - 2))
        share = at - first
        share = share[:, None] if axis == 0 else share[None, :]
        low, high = smooth.take(first, axis), smooth.take(np.minimum(first + 1, have - 1), axis)
        smooth = low + share * (high - low)
    return smooth


def _draw_lines(image: QImage, stays: np.ndarray, goes: np.ndarray, voice_lufs: float | None) -> None:
    voice = _DEFAULT_VOICE if voice_lufs is None else voice_lufs
    lowest = voice - _DARKEST_UNDER_VOICE - TINTS * STEP_DB
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    kinds = ((stays, _LINED, theme.INK, _LINE_ALPHA), (goes, (1,), theme.OVER, _RED_LINE_ALPHA))
    for levels, some, ink, alpha in kinds:
        colour = ink.toRgb()
        colour.setAlpha(alpha)
        pen = QPen(colour, 0.8)
        pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        lines = contour_generator(z=levels)
        for tint in some:
            for line in lines.lines(2 * (lowest + (tint - 1) * STEP_DB - QUIETEST_DB)):
                if len(line) >= _SHORTEST:
                    painter.drawPolyline(QPolygonF([QPointF(x, y) for x, y in line.tolist()]))
    painter.end()
