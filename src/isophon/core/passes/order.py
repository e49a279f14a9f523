"""Orders given by names: each says what it comes after."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, TypeVar


class Named(Protocol):
    """Something with a name that comes after others."""

    @property
    def name(self) -> str:
        """Its own name."""

    @property
    def after(self) -> tuple[str, ...]:
        """The names of those that it comes after, where they are there."""


Item = TypeVar("Item", bound=Named)


def in_order(items: Sequence[Item]) -> tuple[Item, ...]:
    """Items so that each comes after those that it names; else in the order given. ValueError for a circle."""
    names = {item.name for item in items}
    ordered: list[Item] = []
    waiting = list(items)
    while waiting:
        there = {item.name for item in ordered}
        ready = next((one for one in waiting if names.intersection(one.after) <= there), None)
        if ready is None:
            raise ValueError(f"{', '.join(item.name for item in waiting)}: each comes after another of these")
        waiting.remove(ready)
        ordered.append(ready)
    return tuple(ordered)
