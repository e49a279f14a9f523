"""What settings would have done what a hand did: a proposal where decisions of a kind go one way."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from isophon.core.marks import Hand, Mark
from isophon.core.passes import BY_NAME
from isophon.core.session.model import Part
from isophon.core.session.settings import value_range

# Limits of ours; tests/core/test_taste.py holds them against simulated engineers.
_FEWEST = 5  # marks: that a hand changed or left before anything is proposed
_MOST = 60  # marks: that are looked at, so that no step waits for it
_STEP_DB, _FINE_DB = 2.0, 0.5  # dB: steps in which a setting is tried
_FAR_DB = 6.0  # dB: what is further off counts no more, so that one odd decision does not lead
_HALF = 0.5  # share: of what is unexplained, that a proposal may leave
_LEAST_DB = 1.0  # dB a mark: that it must explain at least
_ONE_WAY = 0.8  # share: of the decisions, that must go one way
_OTHERS_DB = 0.5  # dB: a smaller change of another mark is none
_A_SETTING_DB = 1.0  # dB in all: of two proposals the simpler one, unless the other explains more than so much


class Proposal(NamedTuple):
    """Settings of a kind, one or several that belong together, with the values that would have done what a hand did.

    ``decided``: how many marks a hand changed or left; ``others``: how many others would change by 0.5 dB or more.
    """

    kind: str
    values: Mapping[str, float | bool]
    decided: int
    others: int


def proposed(part: Part, kind: str) -> Proposal | None:
    """The setting of a kind that explains what was decided by hand in a part best; None where none does.

    Each level is moved over its range, those that belong together by as much, each switch is flipped, and the sum of
    absolute errors, each up to 6 dB, is made least (a robust fit; Huber 1964 for the idea). It must halve what is left
    unexplained, by 1 dB a mark or more, and four in five of the decisions must go the same way, so that nothing is
    proposed from noise.
    """
    taught = BY_NAME[kind].taught
    decided = [m for m in part.of_kind(kind) if m.hand.decided and not m.hand.drawn and not m.hand.masked]
    count = sum(mark.hand.any for mark in decided)
    decided = decided[:: max(1, math.ceil(len(decided) / _MOST))]  # so that no step waits for it
    by_hand = [i for i, mark in enumerate(decided) if mark.hand.any]
    if not taught or len(by_hand) < _FEWEST:
        return None
    wanted = np.array([part.change(mark) for mark in decided])
    bare = [replace(mark, hand=Hand()) for mark in decided]
    errors = _changes(part, kind, bare, {}) - wanted
    one_way = max(np.count_nonzero(errors[by_hand] > 0), np.count_nonzero(errors[by_hand] < 0))
    if one_way < _ONE_WAY * len(by_hand):
        return None
    best = [_best(part, kind, names, bare, wanted) for names in taught]
    cost, values = min(best, key=lambda one: (one[0] + _A_SETTING_DB * len(one[1]), one[0]))
    now = _cost(errors)
    if cost > _HALF * now or now - cost < _LEAST_DB * len(by_hand):
        return None
    rest = [replace(mark, hand=Hand()) for mark in part.of_kind(kind) if not mark.hand.decided]
    moved = np.abs(_changes(part, kind, rest, values) - _changes(part, kind, rest, {})) >= _OTHERS_DB
    return Proposal(kind, values, count, int(np.count_nonzero(moved)))


def _best(
    part: Part, kind: str, names: tuple[str, ...], marks: list[Mark], wanted: np.ndarray
) -> tuple[float, Mapping[str, float | bool]]:
    """The least cost of settings moved together and switches flipped, and their values."""
    now = {name: getattr(part.settings(kind), name) for name in names}
    flipped = {name: not value for name, value in now.items() if isinstance(value, bool)}
    ranges = {name: value_range(kind, name) for name in names if name not in flipped}
    if not ranges:
        return _cost(_changes(part, kind, marks, flipped) - wanted), flipped

    def moved(by: float) -> Mapping[str, float | bool]:
        levels = {name: round(float(np.clip(now[name] + by, *ranges[name])), 2) for name in ranges}
        return {**flipped, **levels}

    def cost(by: float) -> float:
        return _cost(_changes(part, kind, marks, moved(by)) - wanted)

    widest = max(high - low for low, high in ranges.values())
    rough = min(np.arange(-widest, widest + 1e-6, _STEP_DB), key=cost)
    best = min(rough + np.arange(-_STEP_DB, _STEP_DB + 1e-6, _FINE_DB), key=cost)
    return cost(best), moved(best)


def _changes(part: Part, kind: str, marks: list[Mark], changed: Mapping[str, float | bool]) -> np.ndarray:
    settings, context = replace(part.settings(kind), **changed), part.context(kind)
    change = BY_NAME[kind].decision.change
    return np.array([change(mark, settings, context) for mark in marks])


def _cost(errors: np.ndarray) -> float:
    return float(np.minimum(np.abs(errors), _FAR_DB).sum())
