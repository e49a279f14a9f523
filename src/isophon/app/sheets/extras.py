"""What a pass's sheet holds beside its knobs."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from isophon.app.model.workspace import Workspace


class Extras(QWidget):
    """The widget of one pass. ``in_head``: widgets that stand beside the sheet's name.

    ``knobs_turned()``: whether the knobs are shown has changed.
    """

    knobs_turned = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__()
        self.workspace = workspace
        self.in_head: tuple[QWidget, ...] = ()

    @property
    def has_more(self) -> bool:
        """Whether there is more to be shown on request."""
        return False

    @property
    def knobs_shown(self) -> bool:
        """Whether the pass's knobs are shown now."""
        return True

    def show_part(self) -> None:
        """Show the part in hand."""

    def show_more(self, on: bool) -> None:
        """Show the rarer settings, or not."""
