"""Parts to samples: a fold over the stages of the kinds, each working on what the one before left.

Every span rendered alone equals the same span of the whole: what a stage does depends on the take and on the
treatments before it, never on the span that was asked for. Two ways lead to the same samples: single tiles, kept as
long as nothing that they depend on changes; and whole takes in order, in which each stage works once on long blocks
with as much around them as the stages after it reach.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from functools import lru_cache, partial
from typing import Any

import numpy as np

from isophon.core.audio.threads import ahead
from isophon.core.passes import STAGES
from isophon.core.passes.kind import At, Read, Sounds, Stage, Treatment, touching

Plan = tuple[Treatment, ...]

TILE = 1 << 14
BLOCK = 1 << 19  # frames of a whole take worked on at once
_TILES_BYTES = 48 << 20
_BANDS_BYTES = 48 << 20
_SUNG_BYTES = 16 << 20
_LEVEL_OF = {treated: level for level, stage in enumerate(STAGES) for treated in stage.treats}
_TOP = len(STAGES) - 1
_PLANS_KNOWN = 8


class _Cache:
    """Arrays by key, the least used given up beyond a number of bytes."""

    def __init__(self, limit: int) -> None:
        self._limit, self._bytes, self._cleared = limit, 0, 0
        self._items: OrderedDict[object, np.ndarray] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: object, make: Callable[[], np.ndarray]) -> np.ndarray:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
            cleared = self._cleared
        value = make()
        with self._lock:
            if key not in self._items and cleared == self._cleared:  # what was begun before a clearing may be old
                self._items[key] = value
                self._bytes += value.nbytes
            while self._bytes > self._limit and len(self._items) > 1:
                self._bytes -= self._items.popitem(last=False)[1].nbytes
        return value

    def has(self, key: object) -> bool:
        """Whether there is something of that key."""
        with self._lock:
            return key in self._items

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._items.clear()
            self._bytes = 0
            self._cleared += 1


class RenderCache:
    """What renderers keep between calls, within one limit however many share it."""

    def __init__(self) -> None:
        self.sung, self.tiles, self.bands = _Cache(_SUNG_BYTES), _Cache(_TILES_BYTES), _Cache(_BANDS_BYTES)
        self.generation = 0

    def clear(self) -> None:
        """Forget what was rendered."""
        for cache in (self.tiles, self.bands):
            cache.clear()
        self.generation += 1


class Renderer:
    """Renders one take. ``read(start, frames)`` gives it as sung, float32 ``(channels, frames)``.

    ``sounds(key)``: sounds that are kept beside the take (a leak's), None where they are not there (yet).
    ``tiles_made`` counts the tiles computed so far.
    """

    def __init__(self, read: Read, sample_rate: int, samples: int, cache: RenderCache | None = None,
                 sounds: Callable[[str], Sounds | None] = lambda key: None) -> None:  # fmt: skip
        self.read, self.sample_rate, self.samples = read, sample_rate, samples
        self._cache, self.sounds = cache or RenderCache(), sounds
        self._last: dict[bool, tuple[Plan, int, int, np.ndarray]] = {}
        self._kept: tuple[Plan, np.ndarray] | None = None
        self._knowing = threading.Lock()
        self._known_plans: dict[int, tuple[Plan, int, set[int]]] = {}  # by the plan itself, whatever is equal to it
        self.tiles_made = 0

    def keep(self, plan: Plan, samples: np.ndarray) -> None:
        """Take tiles from ``samples``, the whole take ``(channels, frames)`` as a plan renders it, where they fit.

        They fit other plans too, wherever those do the same.
        """
        self._kept = plan, samples

    def keeps(self, plan: Plan) -> bool:
        """Whether the whole take is there as this plan renders it."""
        return self._kept is not None and (self._kept[0] is plan or self._kept[0] == plan)

    def sung(self, start: int, frames: int) -> np.ndarray:
        """The take as sung from ``start`` on, float32 ``(channels, frames)``; like :attr:`read`, kept by tiles."""
        return self.cleaned((), start, frames)

    def cleaned(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take cleaned by ``plan`` from ``start`` on, float32 ``(channels, frames)``; not to be written to."""
        return _joined(start, frames, lambda index: self._tile(plan, index))

    def ready(self, plan: Plan, start: int, frames: int) -> bool:
        """Whether :meth:`cleaned` would give a span without rendering any of it."""
        if not plan:
            return True
        made = self._made(plan)
        for index in range(start // TILE, (start + frames - 1) // TILE + 1):
            if index not in made:
                if not self._is_made(plan, index):
                    return False
                made.add(index)
        return True

    def _made(self, plan: Plan) -> set[int]:
        """The tiles of a plan that are known to be there: that is asked for many times a second."""
        with self._knowing:
            known = self._known_plans.get(id(plan))
            if known is None or known[0] is not plan or known[1] != self._cache.generation:
                known = self._known_plans[id(plan)] = plan, self._cache.generation, set()
                if len(self._known_plans) > _PLANS_KNOWN:
                    del self._known_plans[next(iter(self._known_plans))]
            return known[2]

    def _is_made(self, plan: Plan, index: int) -> bool:
        start = index * TILE
        around = self._around(_levels(plan), _TOP, start, start + TILE)
        touched = any(t.first < start + TILE and t.last > start for t in around)
        return not touched or self._fits(around, start) or self._cache.tiles.has((self, index, around))

    def blocks(self, plan: Plan, source: Iterator[np.ndarray]) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """The take in order, as sung (from ``source``, which checks it) and cleaned, without keeping tiles."""
        levels = _levels(plan)

        def placed() -> Iterator[tuple[int, np.ndarray]]:
            at = 0
            for block in _longer(source, BLOCK):
                yield at, block
                at += block.shape[1]

        def cleaned(item: tuple[int, np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
            at, block = item
            return block, self._folded(levels, at, block.shape[1])

        yield from ahead(cleaned, placed())

    # whole takes, block by block

    def _folded(self, levels: tuple[Plan, ...], start: int, frames: int) -> np.ndarray:
        """All stages one after the other on a block, each with as much around it as those after it reach."""
        margins = [0] * (len(STAGES) + 1)
        for level in range(_TOP, -1, -1):
            reach = STAGES[level].reach(self.sample_rate) if levels[level] else 0
            margins[level] = margins[level + 1] + reach
        first = start - margins[0]
        held = self.read(first, frames + 2 * margins[0])
        for level, stage in enumerate(STAGES):
            begin, stop = start - margins[level + 1], start + frames + margins[level + 1]
            mine = touching(levels[level], begin, stop)
            if not mine:
                held, first = held[:, begin - first : stop - first], begin
                continue
            read = self._held(levels, level, held, first)
            at = At(read, begin, stop - begin, self.sample_rate, None, self.sounds)
            held, first = self._inside(stage.apply(at, mine), begin), begin
        return held

    def _held(self, levels: tuple[Plan, ...], level: int, held: np.ndarray, first: int) -> Read:
        """Reads what the stages before a level left: where it is held, from there."""

        def read(start: int, frames: int) -> np.ndarray:
            if first <= start and start + frames <= first + held.shape[1]:
                return held[:, start - first : start - first + frames]
            return self._left(levels, level - 1, start, frames)

        return read

    # tiles

    def _tile(self, plan: Plan, index: int) -> np.ndarray:
        last = self._last.get(bool(plan))
        generation = self._cache.generation
        if last and last[0] is plan and last[1:3] == (index, generation):  # most calls ask for the tile before again
            return last[3]
        start = index * TILE
        levels = _levels(plan)
        around = self._around(levels, _TOP, start, start + TILE)
        if self._fits(around, start):
            tile = self._cut(start)
        elif any(t.first < start + TILE and t.last > start for t in around):
            tile = self._cache.tiles.get((self, index, around), lambda: self._rendered(levels, start))
        else:
            tile = self._sung_tile(index)
        self._last[bool(plan)] = (plan, index, generation, tile)
        return tile

    def _fits(self, around: Plan, start: int) -> bool:
        """Whether what is kept of the whole take was made by the same treatments here."""
        return self._kept is not None and around == self._around(_levels(self._kept[0]), _TOP, start, start + TILE)

    def _cut(self, start: int) -> np.ndarray:
        assert self._kept is not None
        tile = np.array(self._kept[1][:, start : start + TILE])
        return np.pad(tile, ((0, 0), (0, TILE - tile.shape[1]))) if tile.shape[1] < TILE else tile

    def _rendered(self, levels: tuple[Plan, ...], start: int) -> np.ndarray:
        self.tiles_made += 1
        return self._left(levels, _TOP, start, TILE)

    def _sung_tile(self, index: int) -> np.ndarray:
        return self._cache.sung.get((self, index), lambda: self.read(index * TILE, TILE))

    def _left(self, levels: tuple[Plan, ...], level: int, start: int, frames: int) -> np.ndarray:
        """What the stages up to a level leave of a span."""
        mine: list[Treatment] = []
        while level >= 0:
            mine = touching(levels[level], start, start + frames)
            if mine:
                break
            level -= 1
        if not mine:
            return _joined(start, frames, self._sung_tile)
        stage = STAGES[level]
        before = self._by_tiles if stage.held else self._left
        at = At(partial(before, levels, level - 1), start, frames, self.sample_rate,
                partial(self._keep, levels, level), self.sounds)  # fmt: skip
        return self._inside(stage.apply(at, mine), start)

    def _inside(self, block: np.ndarray, start: int) -> np.ndarray:
        """A block with nothing outside of the take, wherever that was asked for."""
        before, after = max(0, -start), max(0, start + block.shape[1] - self.samples)
        if before or after:
            block = block.copy()
            block[:, :before] = 0
            block[:, max(0, block.shape[1] - after) :] = 0
        return block

    def _by_tiles(self, levels: tuple[Plan, ...], level: int, start: int, frames: int) -> np.ndarray:
        """The same, kept by tiles."""

        def tile(index: int) -> np.ndarray:
            at = index * TILE
            around = self._around(levels, level, at, at + TILE)
            if not around:
                return self._sung_tile(index)
            make = partial(self._left, levels, level, at, TILE)
            return self._cache.tiles.get((self, level, index, around), make)

        return _joined(start, frames, tile)

    def _keep(self, levels: tuple[Plan, ...], level: int, key: Any, first: int, last: int,
              make: Callable[[], np.ndarray]) -> np.ndarray:  # fmt: skip
        earlier = self._around(levels, level - 1, first, last)
        return self._cache.bands.get((self, level, key, earlier), make)

    def _around(self, levels: tuple[Plan, ...], level: int, start: int, stop: int) -> Plan:
        """All that a span depends on, up to a level: what touches it, and what touches what that reads."""
        found: list[Treatment] = []
        for at in range(level, -1, -1):
            mine = touching(levels[at], start, stop)
            if not mine:
                continue
            found += mine
            if elsewhere := STAGES[at].elsewhere:
                for treatment in mine:
                    found += self._around(levels, at - 1, *elsewhere(treatment, start, stop))
            if STAGES[at].spreads:
                start, stop = min(start, *(t.first for t in mine)), max(stop, *(t.last for t in mine))
            reach = STAGES[at].reach(self.sample_rate)
            start, stop = start - reach, stop + reach
        return tuple(found)


def by_stage(plan: Plan) -> Iterator[tuple[Stage, Plan]]:
    """The stages in order, each with its treatments, those without any left out."""
    return ((stage, mine) for stage, mine in zip(STAGES, _levels(plan), strict=True) if mine)


@lru_cache(maxsize=256)
def _levels(plan: Plan) -> tuple[Plan, ...]:
    """The treatments of each stage, in order of their first frame."""
    levels: list[list[Treatment]] = [[] for _ in STAGES]
    for treatment in plan:
        levels[_LEVEL_OF[type(treatment)]].append(treatment)
    return tuple(tuple(sorted(mine, key=lambda t: t.first)) for mine in levels)


def _joined(start: int, frames: int, tile: Callable[[int], np.ndarray]) -> np.ndarray:
    first, last = start // TILE, (start + frames - 1) // TILE
    tiles = [tile(index) for index in range(first, last + 1)]
    whole = np.concatenate(tiles, axis=1) if len(tiles) > 1 else tiles[0]
    return whole[:, start - first * TILE : start - first * TILE + frames]


def _longer(source: Iterator[np.ndarray], frames: int) -> Iterator[np.ndarray]:
    """Blocks joined to at least so many frames each, but for the last."""
    waiting: list[np.ndarray] = []
    for block in source:
        waiting.append(block)
        if sum(b.shape[1] for b in waiting) >= frames:
            yield np.concatenate(waiting, axis=1)
            waiting = []
    if waiting:
        yield np.concatenate(waiting, axis=1)
