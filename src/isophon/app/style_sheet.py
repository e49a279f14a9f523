"""The style sheet of widgets."""

from __future__ import annotations

from pathlib import Path

from isophon.app.palettes import CONTOUR, DONE, INK, OVER, PANEL, PAPER, RULE, SELECTED, SOFT_INK

_ICONS = (Path(__file__).parent / "assets" / "icons").as_posix()
SANS, MONO = "Atkinson Hyperlegible Next", "Atkinson Hyperlegible Mono"


def style_sheet(kind: str) -> str:
    """The sheet in the inks that are in force, with type as large as usual; ``kind``: which icons, '' for paper's."""
    return f"""
* {{ font-family: "{SANS}"; font-size: 9.75pt; color: {INK.name()}; }}
QMainWindow, QWidget#page, QDialog {{ background: {PAPER.name()}; }}
QWidget#panel, QFrame#panel {{ background: {PANEL.name()}; }}
QFrame#rule {{ background: {RULE.name()}; }}
QToolTip {{ background: {PAPER.name()}; color: {INK.name()}; border: 1px solid {CONTOUR.name()};
  padding: 4px; }}
QLabel#title {{ font-size: 12pt; font-weight: 700; }}
QLabel#head {{ font-size: 12pt; font-weight: 700; }}
QLabel#hint {{ background: {PANEL.name()}; border-left: 3px solid {SELECTED.name()}; padding: 4px 8px;
  margin: 4px 0; }}
QLabel#soft {{ color: {SOFT_INK.name()}; }}
QLabel#number {{ font-family: "{MONO}"; font-weight: 700; font-size: 9.75pt; }}
QLineEdit#clock {{ font-family: "{MONO}"; font-weight: 700; font-size: 12pt; background: transparent; border: none;
  padding: 0 2px; }}
QLineEdit#clock:focus {{ background: {PAPER.name()}; border: none; padding: 0 2px; }}
QLabel#message {{ background: {PANEL.name()}; border: 1px solid {CONTOUR.name()}; border-left: 4px solid {DONE.name()};
  border-radius: 4px; padding: 7px 12px; }}
QFrame#tour {{ background: {PAPER.name()}; border: 2px solid {SELECTED.name()}; border-radius: 6px; }}
QLabel#message[trouble="true"] {{ border-left-color: {OVER.name()}; }}
QPushButton {{ background: {PAPER.name()}; border: 1px solid {CONTOUR.name()}; border-radius: 4px;
  padding: 5px 12px; }}
QPushButton:hover {{ border-color: {INK.name()}; }}
QPushButton:focus {{ border: 2px solid {SELECTED.name()}; padding: 4px 11px; }}
QPushButton:disabled {{
  color: {CONTOUR.name()}; border-color: {RULE.name()}; }}
QPushButton:checked {{
  background: {INK.name()}; color: {PAPER.name()}; border-color: {INK.name()}; }}
QPushButton#main {{ background: {INK.name()}; color: {PAPER.name()}; font-weight: 600; padding: 8px 18px; }}
QPushButton#main:disabled {{ background: {CONTOUR.name()}; border-color: {CONTOUR.name()}; }}
QPushButton#plain {{ border: none; background: transparent; color: {SELECTED.name()}; padding: 4px 8px; }}
QPushButton#key {{ border: none; background: transparent; text-align: left; padding: 0; min-height: 0;
  font-family: "{MONO}"; font-weight: 700; font-size: 9.75pt; }}
QPushButton#key:hover, QPushButton#key:focus {{ text-decoration: underline; }}
QPushButton#key[own="true"] {{ color: {SELECTED.name()}; }}
QPushButton#plain:hover {{ text-decoration: underline; }}
QPushButton#plain:disabled {{ color: {CONTOUR.name()}; }}
QPushButton#plain:focus {{ border: 1px solid {SELECTED.name()}; padding: 3px 7px; }}
QPushButton#link {{ border: none; background: transparent; color: {SOFT_INK.name()}; padding: 0 2px;
  text-align: right; }}
QPushButton#link:hover {{ color: {SELECTED.name()}; }}
QPushButton#link:focus {{ border: 1px solid {SELECTED.name()}; padding: 0 1px; }}
QPushButton#fold {{ border: none; background: transparent; color: {SOFT_INK.name()}; padding: 0; font-size: 12pt; }}
QPushButton#fold:hover {{ color: {SELECTED.name()}; }}
QPushButton#fold:focus {{ border: 1px solid {SELECTED.name()}; }}
QPushButton#small {{ padding: 1px 7px; font-size: 9pt; }}
QPushButton#snug {{ padding: 5px 8px; }}
QPushButton#snug:focus {{ padding: 4px 7px; }}
QPushButton#tiny {{ padding: 0px 5px; font-size: 9pt; }}
QPushButton#tiny:focus {{ border: 1px solid {SELECTED.name()}; padding: 0px 5px; }}
QPushButton#small:focus {{ border: 1px solid {SELECTED.name()}; padding: 1px 7px; }}
QPushButton#row {{ text-align: left; padding: 10px 14px; background: {PANEL.name()};
  border: 1px solid {RULE.name()}; }}
QPushButton#row:focus {{ border: 2px solid {SELECTED.name()}; padding: 9px 13px; }}
QPushButton#row:hover {{ border-color: {SELECTED.name()}; }}
QLineEdit, QComboBox {{
  background: {PAPER.name()}; border: 1px solid {CONTOUR.name()}; border-radius: 3px;
  padding: 4px 6px;
  selection-background-color: {SELECTED.name()}; selection-color: {PAPER.name()}; }}
QLineEdit:focus, QComboBox:focus {{ border: 2px solid {SELECTED.name()}; padding: 3px 5px; }}
QCheckBox:focus {{ color: {SELECTED.name()}; }}
QCheckBox::indicator:focus {{ border: 2px solid {SELECTED.name()}; }}
QComboBox::drop-down {{ border: none; width: 22px; }}
QComboBox::down-arrow {{ image: url({_ICONS}/down{kind}.svg); }}
QComboBox QAbstractItemView {{ background: {PAPER.name()}; border: 1px solid {CONTOUR.name()};
  selection-background-color: {PANEL.name()}; selection-color: {SELECTED.name()}; }}
QCheckBox {{ spacing: 8px; }}
QCheckBox:disabled {{ color: {SOFT_INK.name()}; }}
QCheckBox::indicator:disabled {{ border-color: {RULE.name()}; }}
QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {SOFT_INK.name()}; background: {PAPER.name()}; }}
QCheckBox::indicator:checked {{ image: url({_ICONS}/tick{kind}.svg); }}
QScrollArea {{ border: none; background: {PAPER.name()}; }}
QScrollArea#panel {{ background: {PANEL.name()}; }}
QScrollBar:vertical {{ background: transparent; width: 12px; margin: 0; }}
QScrollBar:horizontal {{ background: transparent; height: 12px; margin: 0; }}
QScrollBar::handle {{ background: {CONTOUR.name()}; border-radius: 3px; margin: 3px; }}
QScrollBar::handle:vertical {{ min-height: 28px; }}
QScrollBar::handle:horizontal {{ min-width: 28px; }}
QScrollBar::handle:hover {{ background: {SOFT_INK.name()}; }}
QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
QScrollBar::add-page, QScrollBar::sub-page {{ background: transparent; }}
QTextBrowser, QPlainTextEdit {{ background: {PAPER.name()}; border: 1px solid {RULE.name()}; }}
QTableWidget:focus, QListWidget:focus, QTextBrowser:focus, QPlainTextEdit:focus {{
  border: 1px solid {SELECTED.name()}; }}
QListWidget {{ background: {PAPER.name()}; border: 1px solid {RULE.name()}; outline: 0; }}
QListWidget::item {{ padding: 4px 8px; }}
QListWidget::item:selected {{ background: {PANEL.name()}; color: {SELECTED.name()}; }}
QMenu {{ background: {PAPER.name()}; border: 1px solid {CONTOUR.name()}; }}
QMenu::item {{ padding: 5px 26px 5px 16px; }}
QMenu::item:selected {{ background: {PANEL.name()}; color: {SELECTED.name()}; }}
QMenu::item:disabled {{ color: {CONTOUR.name()}; }}
QProgressBar {{ border: 1px solid {CONTOUR.name()}; background: {PAPER.name()}; height: 8px; border-radius: 2px; }}
QProgressBar::chunk {{ background: {DONE.name()}; }}
QTableWidget {{ background: {PAPER.name()}; gridline-color: {RULE.name()}; border: 1px solid {RULE.name()};
  selection-background-color: {PANEL.name()}; selection-color: {SELECTED.name()}; }}
QTableWidget::item {{ padding: 2px 6px; border-bottom: 1px solid {RULE.name()}; }}
QTableWidget QComboBox {{ margin: 3px 4px; padding: 2px 6px; }}
QTableWidget QLineEdit {{ padding: 0px 4px; }}
QHeaderView::section {{
  background: {PANEL.name()}; border: none; border-bottom: 1px solid {RULE.name()}; padding: 5px; }}
"""
