"""Which seconds of the song are in view."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from isophon.app.model.glide import Glide

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

SHORTEST_VIEW_S = 0.01


class Viewport(QObject):
    """``span``: first and last second, from the start of the selected part."""

    changed = Signal()

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self._workspace = workspace
        self._glide = Glide(self)
        self._glide.moved.connect(self._set)
        self.span = workspace.song

    def show_span(self, start: float, end: float) -> None:
        """Move the view so that a span is completely in view."""
        first, last = self.target
        if start < first or end > last:
            size = max(last - first, 1.1 * (end - start))
            self.glide_to((start + end - size) / 2, (start + end + size) / 2)

    @property
    def target(self) -> tuple[float, float]:
        """The seconds that are shown, or will be in a moment."""
        return self._glide.target or self.span

    def glide_to(self, start: float, end: float) -> None:
        """Show these seconds, held within the song, in a moment."""
        to = self._within_song(start, end)
        if to != self.target:
            self._glide.begin(self.span, to)

    def show(self, start: float, end: float) -> None:
        """Show these seconds, held within the song, at once."""
        self._glide.stop()
        self._set(*self._within_song(start, end))

    def _set(self, start: float, end: float) -> None:
        if (start, end) != self.span:
            self.span = (start, end)
            self.changed.emit()

    def _within_song(self, start: float, end: float) -> tuple[float, float]:
        first, last = self._workspace.song
        size = min(last - first, max(SHORTEST_VIEW_S, end - start))
        start = min(max(first, start), last - size)
        return start, start + size

    def show_song(self, start: float, end: float) -> None:
        """Show these seconds of the song."""
        self.span = (0.0, 0.0)
        self.show(start - self._workspace.offset, end - self._workspace.offset)
