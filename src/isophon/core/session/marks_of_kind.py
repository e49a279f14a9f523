"""What follows from the marks of one kind in a part: what is done to them, and which ask for a decision.

A part is a value, and an edit makes another one. Whatever an edit cannot have changed is taken over from the value
before it, so that an edit costs as much as what it touches, however many marks there are.
"""

from __future__ import annotations

import operator
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np

from isophon.core.marks import Mark
from isophon.core.passes.kind import Kind
from isophon.core.passes.stage import Treatment
from isophon.core.survey import Survey

if TYPE_CHECKING:
    from isophon.core.session.model import Part

_LEAST_CHANGE_DB = 0.05  # what changes less is left
_CROWD = 4_000  # marks of a kind; no take has so many, and no picture room for them
_VIEWS_KEPT = 8  # lists of marks that are remembered

View = tuple[float, float]


class MarksOfKind:
    """``marks``: in order of time; ``before``: the same of an earlier value of the part, all else in it being equal.

    What is asked for is worked out once; ``part``: the one that the marks are of.
    """

    def __init__(self, kind: Kind, marks: tuple[Mark, ...], before: MarksOfKind | None = None) -> None:
        self.kind, self.marks = kind, marks
        earlier = before._before if before is not None and before._changes is None else before
        self._before: MarksOfKind | None = earlier
        self._context: tuple[Any] | None = None
        self._settings: Any = None
        self._changes: dict[str, float] | None = None
        self._changed: list[tuple[Mark, float]] | None = None
        self._treatments: tuple[Treatment, ...] | None = None
        self._undecided: tuple[Mark, ...] | None = None
        self._undecided_at: np.ndarray | None = None
        self._over: frozenset[str] | None = None
        self._risks: tuple[Survey, dict[str, float]] | None = None
        self._outline: np.ndarray | None = None
        self._seen: dict[tuple[View, int], tuple[Mark, ...]] = {}

    def with_agreed(self, marks: tuple[Mark, ...]) -> MarksOfKind:
        """The same with marks that differ in what was agreed to alone: all that is done to them stays."""
        other = MarksOfKind(self.kind, marks)
        other._context, other._settings, other._changes = self._context, self._settings, self._changes
        other._treatments = self._treatments
        return other

    def context(self, part: Part) -> Any:
        """What the changes of the marks depend on beside the settings."""
        if self._context is None:
            self._context = (self.kind.decision.context(part),)
        return self._context[0]

    def is_for(self, context: Any) -> bool:
        """Whether what was worked out holds where the changes depend on this beside the settings."""
        return self._context is None or self._context[0] == context

    def changes(self, part: Part) -> dict[str, float]:
        """What is done to each mark, in dB, by its name."""
        if self._changes is None:
            self._settings, context = getattr(part, self.kind.name), self.context(part)
            known, before = {}, self._before
            if before is not None and before._changes and before._settings == self._settings \
                    and before._context == (context,):  # fmt: skip
                known = {id(mark): before._changes[mark.id] for mark in before.marks}
            self._changes = {mark.id: known[id(mark)] if id(mark) in known else self._change(mark, context)
                             for mark in self.marks}  # fmt: skip
            self._before = None
        return self._changes

    def _change(self, mark: Mark, context: Any) -> float:
        change = self.kind.decision.change(mark, self._settings, context)
        return change if abs(change) >= _LEAST_CHANGE_DB else 0.0

    def changed(self, part: Part) -> list[tuple[Mark, float]]:
        """The marks to which something is done, each with its change in dB."""
        if self._changed is None:
            changes = self.changes(part)
            self._changed = [(mark, changes[mark.id]) for mark in self.marks if changes[mark.id]]
        return self._changed

    def treatments(self, part: Part) -> tuple[Treatment, ...]:
        """What is done to the part for them."""
        if self._treatments is None:
            self._treatments = tuple(sorted(self.kind.cure.treatments(part), key=operator.attrgetter("first")))
        return self._treatments

    def undecided(self, part: Part) -> tuple[Mark, ...]:
        """The marks that are over their ceiling and that nobody has agreed to, changed or left yet."""
        if self._undecided is None:
            self._undecided = tuple(mark for mark, _ in self.changed(part) if not mark.hand.decided)
        return self._undecided

    def undecided_at(self, part: Part) -> np.ndarray:
        """Where the undecided marks of a part start, ``(marks,)``, s."""
        if self._undecided_at is None:
            self._undecided_at = np.array([mark.span[0] for mark in self.undecided(part)])
        return self._undecided_at

    def over(self, part: Part) -> frozenset[str]:
        """The marks that are over their ceiling or decided by hand, as ``part/mark``."""
        if self._over is None:
            changes = self.changes(part)
            over = (mark for mark in self.marks if changes[mark.id] or mark.hand.decided)
            self._over = frozenset(f"{part.id}/{mark.id}" for mark in over)
        return self._over

    def risks(self, part: Part, survey: Survey) -> dict[str, float]:
        """How risky what is done to each mark is, by its name; those that are left have none."""
        if self._risks is None or self._risks[0] is not survey:
            risk = self.kind.risk.of
            self._risks = survey, {mark.id: risk(part, mark, survey) for mark, _ in self.changed(part)}
        return self._risks[1]

    @property
    def is_crowd(self) -> bool:
        """Whether there are more marks than any take has."""
        return len(self.marks) > _CROWD

    def tallest(self, view: View, columns: int) -> tuple[Mark, ...]:
        """Of very many marks those that can be told apart where a view (s) is so many columns wide.

        The tallest of each column and all that a hand decided; all marks where they are no crowd.
        """
        if not self.is_crowd:
            return self.marks
        asked = view, columns
        if asked not in self._seen:
            if len(self._seen) >= _VIEWS_KEPT:
                self._seen.clear()
            self._seen[asked] = self._tallest(view, columns)
        return self._seen[asked]

    def _tallest(self, view: View, columns: int) -> tuple[Mark, ...]:
        if self._outline is None:
            rows = [(*mark.span, self.kind.decision.height(mark), mark.hand.decided) for mark in self.marks]
            self._outline = np.array(rows, np.float64).T
        start, end, height, decided = self._outline
        (first, last), seen = view, np.arange(len(self.marks))
        column = ((start + end) / 2 - first) / (last - first) * columns
        seen = seen[(end >= first) & (start <= last)]
        order = seen[np.lexsort((height[seen], np.floor(column[seen])))]
        lasts = np.flatnonzero(np.diff(np.floor(column[order]), append=np.inf))
        chosen = np.union1d(order[lasts], seen[decided[seen] > 0][:_CROWD])
        return tuple(self.marks[i] for i in chosen)


def by_kind(marks: Iterable[Mark]) -> dict[str, tuple[Mark, ...]]:
    """Marks sorted out by their kinds, each in the order in which they come."""
    rows: dict[str, list[Mark]] = {}
    for mark in marks:
        rows.setdefault(mark.kind, []).append(mark)
    return {kind: tuple(mine) for kind, mine in rows.items()}


def are_same(one: tuple[Mark, ...], other: tuple[Mark, ...]) -> bool:
    """Whether two rows hold the very same marks."""
    return one is other or (len(one) == len(other) and all(map(operator.is_, one, other)))
