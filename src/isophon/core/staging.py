"""Treatments sorted by the stages that carry them out, and joined where they touch."""

from __future__ import annotations

import operator
from collections import deque
from collections.abc import Iterator, Sequence

from isophon.core.passes import STAGES
from isophon.core.passes.stage import Stage, Treatment
from isophon.core.render_cache import ByIdentity

Plan = tuple[Treatment, ...]
_LEVEL_OF = {treated: level for level, stage in enumerate(STAGES) for treated in stage.treats}
_JOINED: deque[tuple[tuple[Plan, ...], Sequence[Treatment]]] = deque(maxlen=4)  # what was joined lately
_LEVELS: ByIdentity[Plan, tuple[Plan, ...]] = ByIdentity(64)


def joined(rows: Sequence[Plan]) -> list[Treatment]:
    """All that is done to a take, with those joined whose stage joins them.

    ``rows``: what each kind does; rows that are the very same as a moment ago are not joined again.
    """
    treatments: list[Treatment] = []
    for stage in STAGES:
        if stage.joined is not None:
            theirs = tuple(row for row in rows if row and isinstance(row[0], stage.treats))
            rows = [row for row in rows if not (row and isinstance(row[0], stage.treats))]
            treatments += _joined_once(stage, theirs)
    return [*treatments, *(treatment for row in rows for treatment in row)]


def _joined_once(stage: Stage, rows: tuple[Plan, ...]) -> Sequence[Treatment]:
    assert stage.joined is not None, "it joins them"
    known = next((result for of, result in _JOINED if len(of) == len(rows) and all(map(operator.is_, of, rows))), None)
    if known is None:
        known = stage.joined([treatment for row in rows for treatment in row])
        _JOINED.append((rows, known))
    return known


def by_stage(plan: Plan) -> Iterator[tuple[Stage, Plan]]:
    """The stages in order, each with its treatments, those without any left out."""
    return ((stage, mine) for stage, mine in zip(STAGES, levels_of(plan), strict=True) if mine)


def levels_of(plan: Plan) -> tuple[Plan, ...]:
    """The treatments of each stage, in order of their first frame."""
    return _LEVELS.get(plan, lambda: _sorted_out(plan))


def _sorted_out(plan: Plan) -> tuple[Plan, ...]:
    levels: list[list[Treatment]] = [[] for _ in STAGES]
    for treatment in plan:
        levels[_LEVEL_OF[type(treatment)]].append(treatment)
    return tuple(tuple(sorted(mine, key=lambda t: t.first)) for mine in levels)
