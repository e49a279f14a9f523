"""The wave and the map of a part, for what passes draw over them."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PySide6.QtCore import QRectF

from isophon.app.model.workspace import Workspace


class Ground(NamedTuple):
    """``wave`` and ``map``: where they are; ``x_of(seconds)``: the place of a second of the part."""

    workspace: Workspace
    wave: QRectF
    map: QRectF
    x_of: Callable[[float], float]

    @property
    def view(self) -> tuple[float, float]:
        """The seconds that are shown."""
        return self.workspace.viewport.span
