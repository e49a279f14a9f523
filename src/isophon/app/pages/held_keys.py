"""Keys that do something for as long as they are held: as sung, a band alone, and all but a band."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent

from isophon.app.model.hearing import Hearing
from isophon.app.model.keys import key_book, key_code
from isophon.app.model.workspace import Workspace
from isophon.app.views.trace import Trace
from isophon.app.views.transport import Transport

_SHIFT, _CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


def _held(action: str) -> int:
    """The key of an action that lasts as long as it is held."""
    return key_code(key_book().key(action))


class HeldKeys:
    """``tell(words)``: why there is nothing to be heard."""

    def __init__(self, workspace: Workspace, hearing: Hearing, trace: Trace, transport: Transport,
                 tell: Callable[[str], None]) -> None:  # fmt: skip
        self.workspace, self.hearing, self._tell = workspace, hearing, tell
        self.trace, self.transport = trace, transport

    def press(self, event: QKeyEvent) -> bool:
        """Begin what a key does; whether it is one of these."""
        if event.isAutoRepeat():
            return False
        key, modifiers = event.key(), event.modifiers()
        if key == _held("as_sung_held") and not modifiers:
            self.hearing.hold_as_sung(True)
            self.trace.show_as_sung(True)
            self.transport.show_compare("as sung")
        elif key == _held("band_held") and modifiers in (Qt.KeyboardModifier.NoModifier, _CTRL):
            self._hear_band(modifiers == _CTRL)
        elif key == _held("band_held") and modifiers == _SHIFT:
            self._hear_limits()
        else:
            return False
        return True

    def release(self, event: QKeyEvent) -> bool:
        """End it; whether it is one of these."""
        if event.isAutoRepeat() or event.key() not in (_held("as_sung_held"), _held("band_held")):
            return False
        if event.key() == _held("as_sung_held"):
            self.hearing.set_compare(self.hearing.compare)
            self.trace.show_as_sung(False)
        else:
            self.hearing.alone.hear_all()
        return True

    def end(self) -> None:
        """End all of it: the window is left while a key is down."""
        self.hearing.set_compare(self.hearing.compare)
        self.hearing.alone.hear_all()
        self.trace.show_as_sung(False)

    def _hear_band(self, without: bool) -> None:
        mark, which = self.workspace.mark, self.workspace.pass_
        if mark is None:
            self._tell("Select a mark to listen to its band alone.")
            return
        self.hearing.alone.hear_band(*which.lens.box(mark, which.trace.axis), without)

    def _hear_limits(self) -> None:
        limits = self.trace.limits.shown
        if limits is None:
            self._tell("This pass listens to no band of its own; esses by rule do.")
            return
        self.hearing.alone.hear_band(*limits, before=self.workspace.pass_.kinds)  # as it comes to the rule
