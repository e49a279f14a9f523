"""What of the parts is left out or heard alone, for listening only."""

from __future__ import annotations

from typing import TYPE_CHECKING

from isophon.app.model.passes import Pass
from isophon.core.passes import NAMES

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace

ALL_HEARD, WITHOUT, ONLY = ASIDE = ("all passes", "all but this pass", "only this pass")


class Audition:
    """``aside``: which pass is left out, or alone; ``heard_only``: the parts and references that are soloed.

    ``lifted``: what is taken out of the lows is lifted into hearing.
    """

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self.aside: tuple[str, Pass | None] = (ALL_HEARD, None)
        self.heard_only: frozenset[str] = frozenset()
        self.lifted = False

    @property
    def unheard(self) -> tuple[str, ...]:
        """The kinds whose work is switched off for listening."""
        how, which = self.aside
        if which is None:
            return ()
        return which.kinds if how == WITHOUT else tuple(name for name in NAMES if name not in which.kinds)

    def set_aside(self, how: str, which: Pass) -> None:
        """Hear the parts without a pass, with it alone, or with all; for listening only."""
        self.aside = (how, None if how == ALL_HEARD else which)
        self._workspace.take_changed.emit()

    def next_aside(self, which: Pass) -> None:
        """The next of those."""
        now = self.aside[0] if self.aside[1] is which else ALL_HEARD
        self.set_aside(ASIDE[(ASIDE.index(now) + 1) % len(ASIDE)], which)

    def toggle_heard_only(self, item_id: str) -> None:
        """Hear only this (and what else is chosen so), or no longer."""
        self.heard_only = self.heard_only ^ {item_id}
        self._workspace.take_changed.emit()

    def set_lifted(self, on: bool) -> None:
        """Whether what is taken out of the lows is lifted into hearing; for listening only."""
        self.lifted = on
        self._workspace.take_changed.emit()
