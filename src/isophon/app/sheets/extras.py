"""What a pass's sheet holds beside its knobs."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from isophon.app.model.workspace import Workspace
from isophon.app.views.made import make_column
from isophon.app.views.slider import Slider


class Extras(QWidget):
    """The widget of one pass. ``in_head``: widgets that stand under the sheet's name.

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
        """Show the selected part."""

    def show_more(self, on: bool) -> None:
        """Show the rarer settings, or not."""

    def show_beside(self, picture: QWidget) -> None:
        """Select the picture under the knobs."""


class Following(QWidget):
    """A picture of a sheet that follows what is heard. ``MOST_HIGH``: as high as it may become."""

    MOST_HIGH = 120

    def follow(self, seconds: float, playing: bool) -> None:
        """Show the second of the part at which the playhead is."""

    def put_back(self) -> None:
        """It is in the sheet again."""


def alike_slider(workspace: Workspace) -> Slider:
    """Takes the marks most like the selected one together with it; how many of them, nearest first."""
    slider = Slider("Others like this one", 0, 100, 0, lambda v: f"{v:.0f} %", 5.0)
    slider.setToolTip("Select the marks most like the selected one too: by spectrum and length")
    slider.moved.connect(lambda value, _: workspace.take_alike(value / 100))
    return slider


class AlikeExtras(Extras):
    """Taking others like the selected mark."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.alike = alike_slider(workspace)
        column = self.column = make_column(self)
        column.addWidget(self.alike)
        self.alike.hide()

    @property
    def has_more(self) -> bool:
        """It is shown on request."""
        return True

    def show_more(self, on: bool) -> None:
        """Show it, or not."""
        self.alike.setVisible(on)

    def show_part(self) -> None:
        """Nothing else is taken yet where one mark is selected."""
        self.alike.setEnabled(self.workspace.mark is not None)
        if len(self.workspace.selected_marks) < 2:
            self.alike.show_value(0)
