"""Paper or dusk: as the desktop has it, or as chosen; kept between starts. High contrast is the desktop's."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Literal

import msgspec
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QPalette
from PySide6.QtWidgets import QApplication

from isophon.app import palettes, theme
from isophon.app.model.state import state_folder
from isophon.core.atomic import write_text
from isophon.core.errors import IsophonError
from isophon.core.reading import read_bytes

Look = Literal["desktop", "paper", "dusk"]
LOOKS: dict[Look, str] = {"desktop": "As the desktop", "paper": "Paper", "dusk": "Dusk"}
_MOST_BYTES = 1 << 12


class _Kept(msgspec.Struct, frozen=True):
    look: Look = "desktop"


class Appearance(QObject):
    """The look of the application; ``changed`` tells that everything was given other inks."""

    changed = Signal()

    def __init__(self, app: QApplication) -> None:
        super().__init__(app)
        self._app = app
        self.look: Look = _recalled()
        self._style = app.styleHints()  # held: PySide takes what it gives away with it
        self._style.colorSchemeChanged.connect(lambda *_: self._apply())
        self._hints = self._style.accessibility()
        self._hints.contrastPreferenceChanged.connect(lambda *_: self._apply())
        self._apply(first=True)

    def choose(self, look: Look) -> None:
        """Look so from now on."""
        self.look = look
        with contextlib.suppress(IsophonError):  # it is a matter of taste; no work is harmed
            write_text(_path(), msgspec.json.encode(_Kept(look)).decode() + "\n")
        self._apply()

    def wants_contrast(self) -> bool:
        """Whether the desktop asks for high contrast."""
        return self._hints.contrastPreference() == Qt.ContrastPreference.HighContrast

    def _apply(self, first: bool = False) -> None:
        desktop = self._app.styleHints().colorScheme() == Qt.ColorScheme.Dark
        dusk = desktop if self.look == "desktop" else self.look == "dusk"
        wanted = dusk, self.wants_contrast()
        if not first and wanted == palettes.in_force():
            return
        palettes.use(*wanted)
        self._app.setPalette(_palette())
        self._app.setStyleSheet(theme.sheet())
        for widget in self._app.allWidgets():
            widget.update()
        self.changed.emit()


def appearance() -> Appearance:
    """The application's."""
    app = QApplication.instance()
    assert isinstance(app, QApplication), "there is an application"
    return app.findChild(Appearance) or Appearance(app)


def _palette() -> QPalette:
    palette = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, theme.PAPER), (QPalette.ColorRole.Base, theme.PAPER),
        (QPalette.ColorRole.AlternateBase, theme.PANEL), (QPalette.ColorRole.Button, theme.PANEL),
        (QPalette.ColorRole.WindowText, theme.INK), (QPalette.ColorRole.Text, theme.INK),
        (QPalette.ColorRole.ButtonText, theme.INK), (QPalette.ColorRole.PlaceholderText, theme.SOFT_INK),
        (QPalette.ColorRole.Highlight, theme.SELECTED), (QPalette.ColorRole.HighlightedText, theme.PAPER),
        (QPalette.ColorRole.Link, theme.SELECTED), (QPalette.ColorRole.LinkVisited, theme.SELECTED),
        (QPalette.ColorRole.Mid, theme.CONTOUR), (QPalette.ColorRole.Dark, theme.CONTOUR),
        (QPalette.ColorRole.Light, theme.RULE), (QPalette.ColorRole.Midlight, theme.RULE),
    ):  # fmt: skip
        palette.setColor(role, colour)
    return palette


def _recalled() -> Look:
    try:
        return msgspec.json.decode(read_bytes(_path(), _MOST_BYTES), type=_Kept).look
    except (IsophonError, msgspec.MsgspecError, ValueError, RecursionError):
        return "desktop"


def _path() -> Path:
    return state_folder() / "appearance.json"
