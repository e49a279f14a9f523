"""Paper, inks and type: the look of a survey map."""

from __future__ import annotations

import re
from functools import lru_cache
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QColor,
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

PAPER, PANEL, RULE, CONTOUR = QColor("#F6F2E9"), QColor("#EFE9DB"), QColor("#DAD1BE"), QColor("#C3B79C")
INK, SOFT_INK = QColor("#22303A"), QColor("#55626B")
IN_HAND, OVER, DONE = QColor("#1E5E8A"), QColor("#B93C26"), QColor("#1F7468")
ADDED = QColor("#6A4A86")
HAND_FLAG = QColor("#8A5A00")
OVER_FAINT = QColor(185, 60, 38, 70)

ROLE_WORDS = {"lead": "lead", "double": "double", "harmony": "harmony", "adlib": "ad-lib", "cue": "cue", "bed": "music"}

_FONTS = Path(__file__).parent / "assets" / "fonts"
_ICONS = (Path(__file__).parent / "assets" / "icons").as_posix()
_USUAL_DPI, _POINTS = 96, 0.75  # a pixel is three quarters of a point there
NO_LIMIT = 16_777_215  # Qt's QWIDGETSIZE_MAX
_USUAL_POINTS = 12.0  # a desktop's type is up to so large unless a person wants it larger
SANS, MONO = "Atkinson Hyperlegible Next", "Atkinson Hyperlegible Mono"

SHEET = f"""
* {{ font-family: "{SANS}"; font-size: 9.75pt; color: {INK.name()}; }}
QMainWindow, QWidget#page, QDialog {{ background: {PAPER.name()}; }}
QWidget#panel, QFrame#panel {{ background: {PANEL.name()}; }}
QToolTip {{ background: {PAPER.name()}; color: {INK.name()}; border: 1px solid {CONTOUR.name()};
  padding: 4px; }}
QLabel#title {{ font-size: 12.75pt; font-weight: 700; }}
QLabel#head {{ font-size: 11.25pt; font-weight: 700; }}
QLabel#soft {{ color: {SOFT_INK.name()}; }}
QLabel#number {{ font-family: "{MONO}"; font-weight: 700; font-size: 10.5pt; }}
QLineEdit#clock {{ font-family: "{MONO}"; font-weight: 700; font-size: 15pt; background: transparent; border: none;
  padding: 0 2px; }}
QLineEdit#clock:focus {{ background: {PAPER.name()}; border: none; padding: 0 2px; }}
QLabel#message {{ background: {PANEL.name()}; border: 1px solid {CONTOUR.name()}; border-left: 4px solid {DONE.name()};
  border-radius: 4px; padding: 7px 12px; }}
QLabel#message[trouble="true"] {{ border-left-color: {OVER.name()}; }}
QPushButton {{ background: {PAPER.name()}; border: 1px solid {CONTOUR.name()}; border-radius: 4px;
  padding: 5px 12px; }}
QPushButton:hover {{ border-color: {INK.name()}; }}
QPushButton:focus {{ border: 2px solid {IN_HAND.name()}; padding: 4px 11px; }}
QPushButton:disabled {{
  color: {CONTOUR.name()}; border-color: {RULE.name()}; }}
QPushButton:checked {{
  background: {INK.name()}; color: {PAPER.name()}; border-color: {INK.name()}; }}
QPushButton#main {{ background: {INK.name()}; color: {PAPER.name()}; font-weight: 600; padding: 8px 18px; }}
QPushButton#main:disabled {{ background: {CONTOUR.name()}; border-color: {CONTOUR.name()}; }}
QPushButton#plain {{ border: none; background: transparent; color: {IN_HAND.name()}; padding: 4px 8px; }}
QPushButton#plain:hover {{ text-decoration: underline; }}
QPushButton#plain:disabled {{ color: {CONTOUR.name()}; }}
QPushButton#plain:focus {{ border: 1px solid {IN_HAND.name()}; padding: 3px 7px; }}
QPushButton#link {{ border: none; background: transparent; color: {SOFT_INK.name()}; padding: 0 2px;
  text-align: right; }}
QPushButton#link:hover {{ color: {IN_HAND.name()}; }}
QPushButton#link:focus {{ border: 1px solid {IN_HAND.name()}; padding: 0 1px; }}
QPushButton#fold {{ border: none; background: transparent; color: {SOFT_INK.name()}; padding: 0; font-size: 12pt; }}
QPushButton#fold:hover {{ color: {IN_HAND.name()}; }}
QPushButton#fold:focus {{ border: 1px solid {IN_HAND.name()}; }}
QPushButton#small {{ padding: 1px 7px; font-size: 9pt; }}
QPushButton#tiny {{ padding: 0px 5px; font-size: 8.25pt; }}
QPushButton#tiny:focus {{ border: 1px solid {IN_HAND.name()}; padding: 0px 5px; }}
QPushButton#small:focus {{ border: 1px solid {IN_HAND.name()}; padding: 1px 7px; }}
QPushButton#row {{ text-align: left; padding: 10px 14px; background: {PANEL.name()};
  border: 1px solid {RULE.name()}; }}
QPushButton#row:focus {{ border: 2px solid {IN_HAND.name()}; padding: 9px 13px; }}
QPushButton#row:hover {{ border-color: {IN_HAND.name()}; }}
QLineEdit, QComboBox {{
  background: {PAPER.name()}; border: 1px solid {CONTOUR.name()}; border-radius: 3px;
  padding: 4px 6px;
  selection-background-color: {IN_HAND.name()}; selection-color: {PAPER.name()}; }}
QLineEdit:focus, QComboBox:focus {{ border: 2px solid {IN_HAND.name()}; padding: 3px 5px; }}
QCheckBox:focus {{ color: {IN_HAND.name()}; }}
QCheckBox::indicator:focus {{ border: 2px solid {IN_HAND.name()}; }}
QComboBox::drop-down {{ border: none; width: 22px; }}
QComboBox::down-arrow {{ image: url({_ICONS}/down.svg); }}
QComboBox QAbstractItemView {{ background: {PAPER.name()}; border: 1px solid {CONTOUR.name()};
  selection-background-color: {PANEL.name()}; selection-color: {IN_HAND.name()}; }}
QCheckBox {{ spacing: 8px; }}
QCheckBox:disabled {{ color: {SOFT_INK.name()}; }}
QCheckBox::indicator:disabled {{ border-color: {RULE.name()}; }}
QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {SOFT_INK.name()}; background: {PAPER.name()}; }}
QCheckBox::indicator:checked {{ image: url({_ICONS}/tick.svg); }}
QScrollArea {{ border: none; background: {PAPER.name()}; }}
QScrollArea#panel {{ background: {PANEL.name()}; }}
QListWidget {{ background: {PAPER.name()}; border: 1px solid {RULE.name()}; outline: 0; }}
QListWidget::item {{ padding: 4px 8px; }}
QListWidget::item:selected {{ background: {PANEL.name()}; color: {IN_HAND.name()}; }}
QMenu {{ background: {PAPER.name()}; border: 1px solid {CONTOUR.name()}; }}
QMenu::item {{ padding: 5px 26px 5px 16px; }}
QMenu::item:selected {{ background: {PANEL.name()}; color: {IN_HAND.name()}; }}
QMenu::item:disabled {{ color: {CONTOUR.name()}; }}
QProgressBar {{ border: 1px solid {CONTOUR.name()}; background: {PAPER.name()}; height: 8px; border-radius: 2px; }}
QProgressBar::chunk {{ background: {DONE.name()}; }}
QTableWidget {{ background: {PAPER.name()}; gridline-color: {RULE.name()}; border: 1px solid {RULE.name()};
  selection-background-color: {PANEL.name()}; selection-color: {IN_HAND.name()}; }}
QTableWidget::item {{ padding: 2px 6px; border-bottom: 1px solid {RULE.name()}; }}
QTableWidget QComboBox {{ margin: 3px 4px; padding: 2px 6px; }}
QTableWidget QLineEdit {{ padding: 0px 4px; }}
QHeaderView::section {{
  background: {PANEL.name()}; border: none; border-bottom: 1px solid {RULE.name()}; padding: 5px; }}
"""


def load_fonts() -> None:
    """Make the shipped fonts known to Qt."""
    for path in sorted(_FONTS.glob("*.woff")):
        QFontDatabase.addApplicationFont(str(path))


SILENT_DB = -119.0  # at and under this a level is told as silence


@lru_cache(maxsize=1)
def scale() -> float:
    """How much larger than usual a person wants type, and with it all that is drawn around it."""
    screen = QGuiApplication.primaryScreen()
    return larger() * (screen.logicalDotsPerInch() / _USUAL_DPI if screen else 1.0)


@lru_cache(maxsize=1)
def larger() -> float:
    """How much larger the desktop's own type is than usual."""
    return max(1.0, QFontDatabase.systemFont(QFontDatabase.SystemFont.GeneralFont).pointSizeF() / _USUAL_POINTS)


def sheet() -> str:
    """The style sheet, with type as large as wanted."""
    return re.sub(r"font-size: ([\d.]+)pt", lambda found: f"font-size: {float(found[1]) * larger():.4g}pt", SHEET)


@lru_cache(maxsize=256)
def u(size: float) -> int:
    """A length that grows with the type, in pixels."""
    return round(size * scale())


@lru_cache(maxsize=32)
def sans(size: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """The text font; ``size`` in pixels where type is as large as usual."""
    font = QFont(SANS)
    font.setPointSizeF(_POINTS * larger() * size)
    font.setWeight(weight)
    return font


@lru_cache(maxsize=32)
def mono(size: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
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
    """The shape of a band: a hill with a round top."""
    path = QPainterPath(QPointF(x - 1.2 * size, y + 1.4 * size))
    path.cubicTo(x - 0.2 * size, y + 1.4 * size, x - 0.6 * size, y, x, y)
    path.cubicTo(x + 0.6 * size, y, x + 0.2 * size, y + 1.4 * size, x + 1.2 * size, y + 1.4 * size)
    path.closeSubpath()
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
