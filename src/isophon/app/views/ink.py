"""Levels to ink on paper: a spectrogram drawn like relief on a map, with thin contour lines."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PySide6.QtGui import QColor, QImage

from isophon.app import theme
from isophon.core.takes.pictures import QUIETEST_DB

_CONTOURS_UNDER_VOICE = (42, 30)
_FAINTEST_UNDER_VOICE = 58
_DARKEST_UNDER_VOICE = 16
_DEFAULT_VOICE = -24.0


@lru_cache(maxsize=8)
def _inks(voice: int, _in_force: tuple[bool, bool]) -> np.ndarray:
    """Colours ``(256,)`` of the levels of a picture, for a voice level in dB, in the inks that are in force."""
    level = np.arange(256) / 2 + QUIETEST_DB
    faint, dark = voice - _FAINTEST_UNDER_VOICE, voice - _DARKEST_UNDER_VOICE
    share = np.clip((level - faint) / (dark - faint), 0, 1) ** 1.35 * 0.95
    for under in _CONTOURS_UNDER_VOICE:
        near = np.abs(level - (voice - under)) < 0.6
        share[near] = np.minimum(1.0, share[near] + 0.10)
    paper, ink = (np.array([one.red(), one.green(), one.blue()], np.float64) for one in (theme.PAPER, theme.INK))
    colours = np.round(paper + share[:, None] * (ink - paper)).astype(np.uint32)
    return (np.uint32(0xFF000000) | colours[:, 0] << 16 | colours[:, 1] << 8 | colours[:, 2]).astype(np.uint32)


def ink_image(rows: np.ndarray, voice_lufs: float | None) -> QImage:
    """The picture of levels ``(rows, columns)`` uint8, as dark as they are loud against the voice."""
    voice = _DEFAULT_VOICE if voice_lufs is None else voice_lufs
    pixels = np.ascontiguousarray(_inks(round(voice), theme.in_force())[rows])
    height, width = pixels.shape
    return QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_RGB32).copy()


def wave_image(low: np.ndarray, high: np.ndarray, height: int, ink: QColor) -> QImage:
    """A wave from the lowest and highest values of its columns, −1 to 1 over the height, edges smoothed."""
    rows = np.arange(height, dtype=np.float32)[:, None]
    half = height / 2
    top = half - high.astype(np.float32) * (half - 1)
    bottom = np.maximum(half - low.astype(np.float32) * (half - 1), top + 1)
    cover = np.clip(np.minimum(rows + 1, bottom) - np.maximum(rows, top), 0, 1)
    pixels = (np.round(cover * 255).astype(np.uint32) << 24) | np.uint32(ink.rgb() & 0xFFFFFF)
    width = len(low)
    return QImage(pixels.data, width, height, 4 * width, QImage.Format.Format_ARGB32).copy()
