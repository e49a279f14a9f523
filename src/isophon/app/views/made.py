"""Widgets and layouts with what most of them are given at once."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TypeVar

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QBoxLayout, QGridLayout, QPushButton, QTableWidget, QWidget

RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter

Named = TypeVar("Named", bound=QObject)
Box = TypeVar("Box", bound=QBoxLayout)


def named(thing: Named, name: str) -> Named:
    """The thing with the name by which the style sheet knows it."""
    thing.setObjectName(name)
    return thing


def switch(text: str, parent: QWidget | None = None) -> QPushButton:
    """A button that stays down."""
    button = QPushButton(text, parent)
    button.setCheckable(True)
    return button


def spaced(layout: Box, pixels: int) -> Box:
    """A row or column with so much between its parts."""
    layout.setSpacing(pixels)
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
