"""Levels printed on paper like the relief of a map: ink is what stays, red is what goes, with lines of equal level.

Colours are as 0xFFRRGGBB. Pictures of levels are as :mod:`.pictures` makes them.
"""

from __future__ import annotations

from functools import lru_cache

import msgspec
import numpy as np
from contourpy import contour_generator
from scipy import ndimage

from isophon.core.takes.changes import added, removed
from isophon.core.takes.pictures import QUIETEST_DB

TINTS = 7  # of the ink
STEP_DB = 6.0  # dB between them
_DARKEST_UNDER_VOICE = 14.0  # dB: from here up the last tint
_DARKEST = 0.94  # opacity of the last tint
_REDDEST = 0.66  # opacity of the last red
_PALEST_RED = 0.16  # and of the first
_DEFAULT_VOICE = -24.0  # LUFS of a take without voice
_SMOOTH = 0.7  # of a row and a column
_LINED, _SHORTEST = (3, 4, 5, 6, 7), 26  # tints whose edges get a line; points of a line
_LINE, _RED_LINE, _BETWEEN = 0.45, 0.75, 0.4  # how dark lines are; pixels between the points that make them
_DASH, _PERIOD = 7, 13  # of those points: drawn, and drawn or not

Rgb = tuple[int, int, int]


class Inks(msgspec.Struct, frozen=True):
    """What a map is printed with."""

    paper: Rgb
    ink: Rgb
    red: Rgb
    added: Rgb


def tints(levels: np.ndarray, voice_lufs: float | None) -> np.ndarray:
    """Which of the seven tints levels have against the voice level, 0: paper.

    Parameters
    ----------
    levels : half dB, of any shape.
    voice_lufs : LUFS.

    Returns
    -------
    uint8, in the shape of ``levels``.
    """
    return np.clip(np.floor((levels - _level_of(1, voice_lufs)) / (2 * STEP_DB)) + 1, 0, TINTS).astype(np.uint8)


def _level_of(tint: int, voice_lufs: float | None) -> float:
    """From what level on a tint is used, half dB steps as in pictures."""
    voice = _DEFAULT_VOICE if voice_lufs is None else voice_lufs
    lowest = voice - _DARKEST_UNDER_VOICE - TINTS * STEP_DB
    return 2 * (lowest + (tint - 1) * STEP_DB - QUIETEST_DB)


def printed(sung: np.ndarray, cleaned: np.ndarray, voice_lufs: float | None, inks: Inks) -> np.ndarray:
    """The colours of what stays and what goes.

    Parameters
    ----------
    sung, cleaned : uint8 ``(rows, columns)``.
    voice_lufs : LUFS.
    inks : colours.

    Returns
    -------
    uint32 ``(rows, columns)``.
    """
    tint_of = tints(np.arange(256), voice_lufs)
    stays, goes, comes = (tint_of.take(one) for one in (cleaned, removed(sung, cleaned), added(sung, cleaned)))
    return _colours(inks, stays, goes, comes)


def drawn(
    sung: np.ndarray, cleaned: np.ndarray, voice_lufs: float | None, inks: Inks, size: tuple[int, int], lines: bool
) -> np.ndarray:
    """The same, smooth and of another size.

    Parameters
    ----------
    sung, cleaned : uint8 ``(rows, columns)``.
    voice_lufs : LUFS.
    inks : colours.
    size : width and height.
    lines : with lines of equal level, 6 dB apart.

    Returns
    -------
    uint32 ``(height, width)``.
    """
    width, height = size
    stays, goes, comes = (_stretched(one, height, width)
                          for one in (cleaned, removed(sung, cleaned), added(sung, cleaned)))  # fmt: skip
    picture = _colours(inks, *(tints(one, voice_lufs) for one in (stays, goes, comes)))
    if lines:
        for levels, some, ink, dark in ((stays, _LINED, inks.ink, _LINE), (goes, (1,), inks.red, _RED_LINE)):
            picture = _over(picture, dark * _lines(levels, [_level_of(tint, voice_lufs) for tint in some]), ink)
    return picture


def _colours(inks: Inks, stays: np.ndarray, goes: np.ndarray, comes: np.ndarray) -> np.ndarray:
    """The colours of tints, uint8, printed over one another."""
    places = stays.astype(np.uint16) * (TINTS + 1) ** 2 + goes * np.uint16(TINTS + 1) + comes
    return _print(inks).ravel().take(places)


@lru_cache(maxsize=4)
def _print(inks: Inks) -> np.ndarray:
    """Colours of each tint of ink, red and what is added, printed over one another, ``(8, 8, 8)`` uint32."""
    strength = np.concatenate([[0.0], np.linspace(_PALEST_RED, _REDDEST, TINTS)])
    if sum(inks.paper) < sum(inks.ink):
        return _on_dark(inks, strength)
    ink = _veil(inks.paper, inks.ink, np.linspace(0, _DARKEST, TINTS + 1))
    red, more = (_veil(inks.paper, colour, strength) for colour in (inks.red, inks.added))
    colour = np.array(inks.paper) * ink[:, None, None] * red[None, :, None] * more[None, None, :]
    return _packed(np.moveaxis(colour, -1, 0))


def _on_dark(inks: Inks, strength: np.ndarray) -> np.ndarray:
    """The same on dark paper, where an ink covers what lies under it instead of letting the paper shine through."""
    colour = np.broadcast_to(np.array(inks.paper, float), (TINTS + 1,) * 3 + (3,))
    shares = (np.linspace(0, _DARKEST, TINTS + 1)[:, None, None], strength[None, :, None], strength[None, None, :])
    for one, share in zip((inks.ink, inks.red, inks.added), shares, strict=True):
        colour = colour + share[..., None] * (np.array(one) - colour)
    return _packed(np.moveaxis(colour, -1, 0))


def _veil(paper: Rgb, colour: Rgb, strength: np.ndarray) -> np.ndarray:
    """How much of each of the paper's colours shines through a colour printed so strongly, ``(n, 3)``."""
    ground = np.array(paper, float)
    return (ground + strength[:, None] * (np.array(colour) - ground)) / ground


def _packed(colour: np.ndarray) -> np.ndarray:
    """Red, green and blue ``(3, …)`` as one number each."""
    red, green, blue = np.clip(np.round(colour), 0, 255).astype(np.uint32)
    return np.uint32(0xFF000000) | red << 16 | green << 8 | blue


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


def _lines(levels: np.ndarray, at: list[float]) -> np.ndarray:
    """How far dashed lines of equal level cover each pixel, 0 to 1; short ones, which are noise, are left out."""
    generator, (height, width) = contour_generator(z=levels), levels.shape
    lines = [np.asarray(line) for level in at for line in generator.lines(level) if len(line) >= _SHORTEST]
    if not lines:
        return np.zeros(levels.shape)
    x, y = np.concatenate([_dashes(line) for line in lines], axis=1)
    left, top = np.minimum(x.astype(int), width - 2), np.minimum(y.astype(int), height - 2)
    right, below = x - left, y - top
    first, cover = top * width + left, np.zeros(levels.size)
    for further, share in ((0, (1 - below) * (1 - right)), (1, (1 - below) * right),
                           (width, below * (1 - right)), (width + 1, below * right)):  # fmt: skip
        cover += np.bincount(first + further, _BETWEEN * share, levels.size)
    return np.minimum(cover, 1.0).reshape(levels.shape)


def _dashes(line: np.ndarray) -> np.ndarray:
    """Points along a line ``(n, 2)``, evenly, with gaps; ``(2, m)``."""
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(line, axis=0).T))])
    at = np.arange(0, along[-1], _BETWEEN)
    at = at[np.arange(len(at)) * _BETWEEN % _PERIOD < _DASH]
    return np.stack([np.interp(at, along, line[:, 0]), np.interp(at, along, line[:, 1])])


def _over(picture: np.ndarray, cover: np.ndarray, ink: Rgb) -> np.ndarray:
    """A picture with an ink drawn over it, so far as it covers each pixel."""
    touched = np.flatnonzero(cover > 0)
    out = picture.copy().ravel()
    under, share = out[touched], cover.ravel()[touched]
    channels = [(under >> shift) & 255 for shift in (16, 8, 0)]
    out[touched] = _packed(np.stack([c + share * (i - c.astype(float)) for c, i in zip(channels, ink, strict=True)]))
    return out.reshape(picture.shape)
