"""How the room of the main page is shared out, remembered for each pass."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QSplitter

_KEY = "split {}"
_SIZES = re.compile(r"\d{1,5}(?: \d{1,5}){3}")


class Splits(QObject):
    """The sizes of two splitters of two widgets each: as a person left them in a pass, else the usual ones.

    ``usual(height)``: the sizes of the four widgets in a window of that height.
    """

    def __init__(self, one: QSplitter, other: QSplitter, usual: Callable[[int], tuple[int, int, int, int]]) -> None:
        super().__init__(one)
        self._splitters, self._usual = (one, other), usual
        self._kind = ""
        self._sizes: dict[str, list[int]] = {}
        for splitter in self._splitters:
            splitter.splitterMoved.connect(self._moved)
            splitter.installEventFilter(self)

    def open(self, kind: str) -> None:
        """Be as a pass was left."""
        if kind != self._kind:
            self._kind = kind
            self.show()

    def show(self) -> None:
        """Share out the room for the pass that is open."""
        sizes = self._sizes.get(self._kind) or self._usual(self._splitters[0].height())
        for splitter, some in zip(self._splitters, (sizes[:2], sizes[2:]), strict=True):
            splitter.setSizes(list(some))

    def _moved(self) -> None:
        self._sizes[self._kind] = [size for splitter in self._splitters for size in splitter.sizes()]

    def eventFilter(self, _watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and self._kind not in self._sizes:
            self.show()
        return False

    def state(self) -> dict[str, str]:
        """What is to be remembered."""
        return {_KEY.format(kind): " ".join(map(str, sizes)) for kind, sizes in self._sizes.items()}

    def restore(self, state: dict[str, str], kinds: Iterable[str]) -> None:
        """Be as remembered, as far as that can be read."""
        for kind in kinds:
            text = state.get(_KEY.format(kind), "")
            if _SIZES.fullmatch(text):
                self._sizes[kind] = [int(size) for size in text.split()]
        self.show()
