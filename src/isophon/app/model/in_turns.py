"""Something that takes a while, worked out step by step, each in a turn of the window's own."""

from __future__ import annotations

from collections.abc import Callable, Generator
from typing import Any

from PySide6.QtCore import QObject, QTimer

_BETWEEN_MS = 8


class InTurns(QTimer):
    """Works when it is asked, once more where it was asked meanwhile.

    ``steps()``: the steps, and what they come to; ``show``: gets that. ``rest_ms``: it waits until nothing was asked
    for so long, and begins anew where something is, so that it takes no time from a drag.
    """

    def __init__(
        self, steps: Callable[[], Generator[None, None, Any]], show: Callable[[Any], None], parent: QObject,
        rest_ms: int = 0,
    ) -> None:  # fmt: skip
        super().__init__(parent, singleShot=True, interval=_BETWEEN_MS)
        self._rest_ms = rest_ms
        self._begin, self._show = steps, show
        self._steps: Generator[None, None, Any] | None = None
        self._changed_since = False  # since they began
        self.timeout.connect(self._go_on)

    def ask(self) -> None:
        """Work it out soon."""
        self._changed_since = True
        if self._rest_ms:
            self._steps = None
            self.start(self._rest_ms)
        elif not self.isActive():
            self.start()

    def _go_on(self) -> None:
        if self._steps is None:
            self._steps, self._changed_since = self._begin(), False
        try:
            next(self._steps)
        except StopIteration as end:
            self._steps = None
            self._show(end.value)
        if self._steps is not None or self._changed_since:
            self.start(_BETWEEN_MS)
