"""Widgets and layouts with what most of them are given at once."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QBoxLayout, QGridLayout, QHBoxLayout, QPushButton, QTableWidget, QVBoxLayout, QWidget

RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter

Named = TypeVar("Named", bound=QObject)
Box = TypeVar("Box", bound=QBoxLayout)
Margins = tuple[int, int, int, int]


def named(thing: Named, name: str) -> Named:
    """The thing with the name by which the style sheet knows it."""
    thing.setObjectName(name)
    return thing


def switch(text: str, parent: QWidget | None = None) -> QPushButton:
    """A button that stays down."""
    button = QPushButton(text, parent)
    button.setCheckable(True)
    return button


def make_row(parent: QWidget | None = None, between: int = 8, around: Margins = (0, 0, 0, 0)) -> QHBoxLayout:
    """A row with so many pixels between its parts and around it: left, above, right, below."""
    return _laid(QHBoxLayout(parent) if parent else QHBoxLayout(), between, around)


def make_column(parent: QWidget | None = None, between: int = 4, around: Margins = (0, 0, 0, 0)) -> QVBoxLayout:
    """A column, as :func:`make_row`."""
    return _laid(QVBoxLayout(parent) if parent else QVBoxLayout(), between, around)


def _laid(layout: Box, between: int, around: Margins) -> Box:
    layout.setSpacing(between)
    layout.setContentsMargins(*around)
    return layout


def grid(parent: QWidget | None, across: int, down: int) -> QGridLayout:
    """A grid with so many pixels between its columns and rows."""
    layout = QGridLayout(parent)
    layout.setHorizontalSpacing(across)
    layout.setVerticalSpacing(down)
    return layout


def figures_right(table: QTableWidget, columns: Iterable[int]) -> None:
    """Let the heads of columns with figures stand right, as the figures do."""
    for column in columns:
        if (head := table.horizontalHeaderItem(column)) is not None:
            head.setTextAlignment(RIGHT)
