"""A review of all parts and passes as one list: what is most worth hearing first, at a person's own pace."""

from __future__ import annotations

import time
from collections.abc import Sequence
from statistics import median
from typing import NamedTuple

from isophon.app.model.audibility import SECONDS_A_MARK, time_for
from isophon.app.model.hearing import ALONE, WITH_MUSIC, WITH_STACK
from isophon.app.model.passes import Pass
from isophon.app.model.workspace import Workspace
from isophon.core.marks import Mark
from isophon.core.session.audible import judged
from isophon.core.session.model import Part, Session

_PACE_OF, _LONGEST_S = 12, 60.0  # decisions; a longer time was a pause


class Place(NamedTuple):
    """A mark, its part and its pass, and how much it is worth hearing."""

    worth: float
    which: Pass
    part: Part
    mark: Mark


class WorstFirst:
    """The undecided marks of a session that can be heard, those most worth hearing first; ``on``: it is walked."""

    def __init__(self, workspace: Workspace, passes: Sequence[Pass]) -> None:
        self._workspace, self._passes = workspace, passes
        self.on = False
        self._passed: set[tuple[str, str]] = set()
        self._arrived_s: float | None = None
        self._took_s: list[float] = []

    def begin(self) -> None:
        """Begin at the top."""
        self.on, self._arrived_s = True, None
        self._passed.clear()

    def end(self) -> None:
        """Walk part by part again."""
        self.on = False

    def places(self) -> list[Place]:
        """All that are undecided and can be heard, the first first; those that were passed over come last."""
        audibility, places = self._workspace.audibility, []
        for which in self._passes:
            for part in self._workspace.session.parts:
                undecided = part.undecided(which.kind)
                worth = audibility.worth(part, which) if undecided else {}
                places += [Place(worth[mark.id], which, part, mark) for mark in undecided if worth.get(mark.id)]
        return sorted(places, key=lambda p: ((p.part.id, p.mark.id) in self._passed, -p.worth, p.part.id, p.mark.start))

    def go_on(self) -> Place | None:
        """The next one, None where nothing is left; the time that the last one took tells the pace."""
        now, workspace = time.monotonic(), self._workspace
        if self._arrived_s is not None:
            self._took_s = [*self._took_s, min(_LONGEST_S, now - self._arrived_s)][-_PACE_OF:]
        self._arrived_s = now
        if workspace.mark is not None:
            self._passed.add((workspace.part.id, workspace.mark.id))
        return next(iter(self.places()), None)

    def words(self) -> str:
        """How many are left, and how long that takes at this pace."""
        left = len(self.places())
        pace = median(self._took_s) if self._took_s else SECONDS_A_MARK
        return f"all parts and passes, worst first: {left} left, {time_for(left, pace)}"


def where_heard(session: Session, which: Pass) -> str:
    """What marks of a pass are heard with: the music, else the stack; alone where it is not judged what masks them."""
    with_others = WITH_MUSIC if any(guide.kind == "bed" for guide in session.guides) else WITH_STACK
    return with_others if judged(which.kind) else ALONE
