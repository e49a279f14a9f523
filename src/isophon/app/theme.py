"""Paper, inks and type: the look of a survey map."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QFont,
    QFontDatabase,
    QFontMetrics,
    QGuiApplication,
    QIcon,
    QPainter,
    QPainterPath,
    QPen,
    QPixmap,
)

from isophon.app.palettes import (
    ADDED,
    CONTOUR,
    DONE,
    HAND_FLAG,
    INK,
    OVER,
    OVER_FAINT,
    PANEL,
    PAPER,
    RULE,
    SELECTED,
    SOFT_INK,
    in_force,
    is_dusk,
)
from isophon.app.style_sheet import MONO, SANS, style_sheet

__all__ = [
    "ADDED",
    "CONTOUR",
    "DONE",
    "HAND_FLAG",
    "INK",
    "OVER",
    "OVER_FAINT",
    "PANEL",
    "PAPER",
    "RULE",
    "SELECTED",
    "SOFT_INK",
    "in_force",
    "is_dusk",
]  # fmt: skip

ROLE_WORDS = {"lead": "lead", "double": "double", "harmony": "harmony", "adlib": "ad-lib", "cue": "cue", "bed": "music"}

_FONTS = Path(__file__).parent / "assets" / "fonts"
_USUAL_DPI, _POINTS = 96, 0.75  # a pixel is three quarters of a point there
NO_LIMIT = 16_777_215  # Qt's QWIDGETSIZE_MAX
_USUAL_POINTS = 12.0  # a desktop's type is up to so large unless a person wants it larger


def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    for path in sorted(_FONTS.glob("*.woff")):
        QFontDatabase.addApplicationFont(str(path))


SMALL, TEXT, HEAD = 12, 13, 16  # the three sizes of type, in pixels where type is as large as usual
SILENT_DB = -119.0  # at and under this a level is shown as silence


@lru_cache(maxsize=1)
def scale() -> float:
    """How much larger than usual a person wants type, and with it all that is drawn around it."""
    screen = QGuiApplication.primaryScreen()
    return larger() * (screen.logicalDotsPerInch() / _USUAL_DPI if screen else 1.0)


@lru_cache(maxsize=1)
def larger() -> float:
    """How much larger than usual type is to be: as preferred, else as the desktop's own is."""
    from isophon.app.model.preferences import TYPE_FACTORS, preferences

    if (preferred := TYPE_FACTORS.get(preferences().type_size)) is not None:
        return preferred
    return max(1.0, QFontDatabase.systemFont(QFontDatabase.SystemFont.GeneralFont).pointSizeF() / _USUAL_POINTS)


def sheet() -> str:
    """The style sheet in the inks that are in force, with type as large as wanted."""
    plain = style_sheet("-dusk" if is_dusk() else "")
    return re.sub(r"font-size: ([\d.]+)pt", lambda found: f"font-size: {float(found[1]) * larger():.4g}pt", plain)


@lru_cache(maxsize=256)
def u(size: float) -> int:
    """A length that grows with the type, in pixels."""
    return round(size * scale())


@lru_cache(maxsize=32)
def sans(size: int, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The text font; ``size`` in pixels where type is as large as usual."""
    font = QFont(SANS)
    font.setPointSizeF(_POINTS * larger() * size)
    font.setWeight(weight)
    return font


@lru_cache(maxsize=32)
def mono(size: int, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The font for numbers, as :func:`sans`."""
    font = QFont(MONO)
    font.setPointSizeF(_POINTS * larger() * size)
    font.setWeight(weight)
    return font


def signed(value: float, digits: int = 1) -> str:
    """A number with its sign, the minus a real one."""
    text = f"{value:+.{digits}f}"
    return text.replace("-", "−") if float(text) else f"{0:.{digits}f}"


def level(value: float, unit: str = "dBFS") -> str:
    """A level with its unit; digital silence has none."""
    return "silent" if value <= SILENT_DB else f"{signed(value)} {unit}".replace("+", "")


def hertz(hz: float) -> str:
    """A frequency beside an axis."""
    return f"{hz / 1000:g}k" if hz >= 1_000 else f"{round(hz)}"


def from_to(before: float, after: float) -> str:
    """A level before and after, in whole dB."""
    words = ["silent" if value <= SILENT_DB else signed(value, 0).replace("+", "") for value in (before, after)]
    return f"{words[0]} → {words[1]}" + ("" if "silent" in words[1] else " dB")


def clock(seconds: float) -> str:
    """Minutes, seconds and hundredths."""
    return f"{int(seconds // 60)}:{seconds % 60:05.2f}"


def draw_badge(painter: QPainter, box: QRectF) -> None:
    """The emblem: contour lines around a peak."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for i, share in enumerate((1.0, 0.70, 0.40)):
        painter.setPen(QPen(OVER if i == 2 else INK, 1.6))
        width, height = box.width() * share, box.height() * 0.78 * share
        centre = box.center() + QPointF(0.05 * box.width() * i, -0.04 * box.height() * i)
        painter.drawEllipse(centre, width / 2, height / 2)


def app_icon() -> QIcon:
    """The application's icon."""
    pixmap = QPixmap(64, 64)
    pixmap.fill(PAPER)
    painter = QPainter(pixmap)
    draw_badge(painter, QRectF(5, 5, 54, 54))
    painter.end()
    return QIcon(pixmap)


def ess_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of an ess mark: a kite, point down, centred on x with its top at y."""
    path = QPainterPath(QPointF(x - size, y + 0.35 * size))
    path.lineTo(x, y - 0.2 * size)
    path.lineTo(x + size, y + 0.35 * size)
    path.lineTo(x, y + 1.7 * size)
    path.closeSubpath()
    return path


def breath_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a breath: an oval lying down."""
    path = QPainterPath()
    path.addEllipse(QPointF(x, y + 0.7 * size), 1.1 * size, 0.65 * size)
    return path


def gap_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a gap: a bracket, open below."""
    path = QPainterPath(QPointF(x - size, y + 1.5 * size))
    for dx, dy in ((-1, 0), (1, 0), (1, 1.5), (0.45, 1.5), (0.45, 0.6), (-0.45, 0.6), (-0.45, 1.5)):
        path.lineTo(x + dx * size, y + dy * size)
    path.closeSubpath()
    return path


def pop_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a pop: a bell, wide below."""
    path = QPainterPath(QPointF(x - 1.1 * size, y + 1.5 * size))
    path.cubicTo(x - 0.5 * size, y + 1.4 * size, x - 0.5 * size, y - 0.1 * size, x, y - 0.1 * size)
    path.cubicTo(x + 0.5 * size, y - 0.1 * size, x + 0.5 * size, y + 1.4 * size, x + 1.1 * size, y + 1.5 * size)
    path.closeSubpath()
    return path


def bleed_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a hit of the cue: two upright dashes."""
    path = QPainterPath()
    for left in (-0.75, 0.3):
        path.addRect(x + left * size, y, 0.45 * size, 1.5 * size)
    return path


def tick_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a tick: a thin needle."""
    path = QPainterPath(QPointF(x - 0.35 * size, y + 1.5 * size))
    path.lineTo(x, y - 0.2 * size)
    path.lineTo(x + 0.35 * size, y + 1.5 * size)
    path.closeSubpath()
    return path


def band_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a band: two lying dashes."""
    path = QPainterPath()
    for down in (0.1, 0.95):
        path.addRect(x - 1.1 * size, y + down * size, 2.2 * size, 0.5 * size)
    return path


def word_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a word that is moved: an arrow that points along the time."""
    path = QPainterPath(QPointF(x - 1.1 * size, y + 0.4 * size))
    for dx, dy in ((0.2, 0.4), (0.2, 0.0), (1.1, 0.7), (0.2, 1.4), (0.2, 1.0), (-1.1, 1.0)):
        path.lineTo(x + dx * size, y + dy * size)
    path.closeSubpath()
    return path


def spot_shape(x: float, y: float, size: float = 5.0) -> QPainterPath:
    """The shape of a spot: a box with a corner cut off."""
    path = QPainterPath(QPointF(x - 0.8 * size, y))
    for dx, dy in ((0.3, 0.0), (0.8, 0.5), (0.8, 1.4), (-0.8, 1.4)):
        path.lineTo(x + dx * size, y + dy * size)
    path.closeSubpath()
    return path


def text_width(text: str, size: int) -> int:
    """How wide a text is in the text font."""
    return QFontMetrics(sans(size)).horizontalAdvance(text)
