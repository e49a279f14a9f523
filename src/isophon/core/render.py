"""Parts to samples, a tile at a time; only tiles whose treatments changed are made again.

The order: bleed, ticks, hum, low cut, pops, hiss, fades (gaps and breaths), esses; each works on what
the one before left. Every span rendered alone equals the same span of the
whole: a correction depends on the take and on the treatments before it, never on
the span that was asked for.
"""

from __future__ import annotations

import threading
from bisect import bisect_left
from collections import OrderedDict
from collections.abc import Callable, Iterator
from functools import partial

import numpy as np

from isophon.core.passes.bleed import treat as bleed
from isophon.core.passes.bleed.settings import BleedCut
from isophon.core.passes.esses import treat
from isophon.core.passes.gaps import treat as fades
from isophon.core.passes.gaps.treat import Fade
from isophon.core.passes.hiss import treat as hiss
from isophon.core.passes.hiss.treat import HissCut
from isophon.core.passes.hum import model as hum
from isophon.core.passes.hum.model import HumCut
from isophon.core.passes.pops import treat as pops
from isophon.core.passes.pops.treat import PopCut
from isophon.core.passes.rumble import lowcut
from isophon.core.passes.rumble.lowcut import LowCut
from isophon.core.passes.ticks import treat as ticks
from isophon.core.passes.ticks.treat import Repair

Read = Callable[[int, int], np.ndarray]
Leaks = Callable[[str], tuple[np.ndarray, np.ndarray] | None]
Plan = tuple[BleedCut | Repair | HumCut | LowCut | PopCut | HissCut | Fade | treat.Treatment, ...]

TILE = 1 << 14
_TILES_BYTES = 48 << 20
_BANDS_BYTES = 48 << 20
_SUNG_BYTES = 16 << 20
_REACH_S = 1.2  # no correction depends on what is further away


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

    ``leaks(key)``: the sounds of a leak, None where they are not there (yet).
    ``tiles_made`` counts the tiles computed so far.
    """

    def __init__(self, read: Read, sample_rate: int, samples: int, cache: RenderCache | None = None,
                 leaks: Leaks = lambda key: None) -> None:  # fmt: skip
        self.read, self.sample_rate, self.samples = read, sample_rate, samples
        self._cache, self.leaks = cache or RenderCache(), leaks
        self._last: dict[bool, tuple[Plan, int, int, np.ndarray]] = {}
        self.tiles_made = 0

    def sung(self, start: int, frames: int) -> np.ndarray:
        """The take as sung from ``start`` on, float32 ``(channels, frames)``; like :attr:`read`, kept by tiles."""
        return self.cleaned((), start, frames)

    def cleaned(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take cleaned by ``plan`` from ``start`` on, float32 ``(channels, frames)``; not to be written to."""
        first, last = start // TILE, (start + frames - 1) // TILE
        tiles = [self._tile(plan, index) for index in range(first, last + 1)]
        whole = np.concatenate(tiles, axis=1) if len(tiles) > 1 else tiles[0]
        return whole[:, start - first * TILE : start - first * TILE + frames]

    def blocks(self, plan: Plan, source: Iterator[np.ndarray]) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """The take in order, as sung (from ``source``) and cleaned, without keeping tiles."""
        at = 0
        for block in source:
            yield block, self._treated(plan, block, at)
            at += block.shape[1]

    def _tile(self, plan: Plan, index: int) -> np.ndarray:
        last = self._last.get(bool(plan))
        generation = self._cache.generation
        if last and last[0] is plan and last[1:3] == (index, generation):  # most calls ask for the tile before again
            return last[3]
        start = index * TILE
        touching = self._around(plan, start, start + TILE)
        if any(t.first < start + TILE and t.last > start for t in touching):
            tile = self._cache.tiles.get((self, index, touching), lambda: self._make(touching, start))
        else:
            tile = self._cache.sung.get((self, index), lambda: self.read(start, TILE))
        self._last[bool(plan)] = (plan, index, generation, tile)
        return tile

    def _make(self, plan: Plan, start: int) -> np.ndarray:
        self.tiles_made += 1
        return self._treated(plan, self.read(start, TILE), start)

    def _around(self, plan: Plan, start: int, stop: int) -> Plan:
        """What the samples of a span depend on: esses that touch it, and all that is done before them nearby."""
        reach = round(_REACH_S * self.sample_rate)
        near = _touching(plan, start - reach, stop + reach)
        return tuple(t for t in near if not isinstance(t, treat.Treatment) or (t.first < stop and t.last > start))

    def _treated(self, plan: Plan, block: np.ndarray, start: int) -> np.ndarray:
        frames = block.shape[1]
        around = self._around(plan, start, start + frames)
        parts = [(t, self._band(plan, t)) for t in around if isinstance(t, treat.Treatment)]
        block = self._faded(around, start, frames)
        return treat.apply(block, start, parts) if parts else block

    def _faded(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take as esses find it."""
        block = self._quiet(plan, start, frames)
        gone = [t for t in _touching(plan, start, start + frames) if isinstance(t, Fade)]
        return fades.apply(block, start, gone) if gone else block

    def _quiet(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take without ticks, its floor and pops."""
        cut = _only(plan, HissCut)
        if cut is None:
            return self._ground(plan, start, frames)
        ground = tuple(t for t in plan if isinstance(t, BleedCut | Repair | HumCut | LowCut | PopCut))
        held_from = start - round(_REACH_S * self.sample_rate)
        held = self._ground(ground, held_from, frames + 2 * (start - held_from)) if frames > TILE else None

        def read(first: int, count: int) -> np.ndarray:
            if held is not None:
                return held[:, first - held_from : first - held_from + count]
            return self._tiles_of(ground, first, count)

        return hiss.apply(read, start, frames, cut, lambda key, make: self._cache.bands.get((self, ground, key), make))

    def _tiles_of(self, ground: Plan, start: int, frames: int) -> np.ndarray:
        """The take without ticks, hum, rumble and pops, kept by tiles."""
        if not ground:
            return self.sung(start, frames)
        first, last = start // TILE, (start + frames - 1) // TILE
        tiles = []
        for i in range(first, last + 1):
            near = self._around(ground, i * TILE, (i + 1) * TILE)
            make = partial(self._ground, near, i * TILE, TILE)
            tiles.append(self._cache.tiles.get((self, "ground", i, near), make))
        return np.concatenate(tiles, axis=1)[:, start - first * TILE :][:, :frames]

    def _ground(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take without ticks, hum, rumble and pops."""
        block = self._steady(plan, start, frames)
        cuts = [t for t in _touching(plan, start, start + frames) if isinstance(t, PopCut)]
        return pops.apply(block, start, [(cut, self._burst(plan, cut)) for cut in cuts]) if cuts else block

    def _burst(self, plan: Plan, cut: PopCut) -> np.ndarray:
        reach = pops.reach(self.sample_rate)
        near = self._around(plan, cut.first - reach, cut.last + reach)
        earlier = tuple(t for t in near if isinstance(t, BleedCut | Repair | HumCut | LowCut))
        span = (cut.first, cut.last, cut.edge, cut.high_hz)
        read = partial(self._steady, earlier)
        return self._cache.bands.get((self, "pop", span, earlier), lambda: pops.burst_of(read, cut))

    def _steady(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take without bleed, ticks, hum and rumble."""
        hum_cut, low_cut = _only(plan, HumCut), _only(plan, LowCut)

        def read(first: int, count: int) -> np.ndarray:
            block = self._dry(plan, first, count)
            broken = [t for t in _touching(plan, first, first + count) if isinstance(t, Repair)]
            if broken:
                block = ticks.apply(block, first, [(repair, self._patch(plan, repair)) for repair in broken])
            return block if hum_cut is None else hum.apply(block, first, hum_cut)

        return read(start, frames) if low_cut is None else lowcut.apply(read, start, frames, low_cut)

    def _patch(self, plan: Plan, repair: Repair) -> np.ndarray:
        cut = _only(plan, BleedCut)
        read = partial(self._dry, plan)
        return self._cache.bands.get((self, repair, cut), lambda: ticks.patch_of(read, repair))

    def _dry(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take without bleed."""
        cut, block = _only(plan, BleedCut), self.sung(start, frames)
        arrays = self.leaks(cut.key) if cut is not None else None
        return block if arrays is None else bleed.apply(block, start, arrays, cut)

    def _band(self, plan: Plan, treatment: treat.Treatment) -> np.ndarray:
        """The band of an ess in what the treatments before it left."""
        reach = treat.reach(treatment, self.sample_rate)
        around = self._around(plan, treatment.first - reach, treatment.last + reach)
        earlier = tuple(t for t in around if not isinstance(t, treat.Treatment))
        key = (self, treatment.span, treatment.edge, earlier)
        read = partial(self._faded, earlier)
        return self._cache.bands.get(key, lambda: treat.band_of(read, treatment, self.sample_rate))


def _only(plan: Plan, kind: type) -> HumCut | LowCut | HissCut | None:
    """The treatment of the whole take of that type."""
    return next((t for t in plan if isinstance(t, kind)), None)


def _touching(plan: Plan, start: int, stop: int) -> Iterator[treat.Treatment]:
    """The treatments of a plan (in order of their first frame) that change a frame of the span."""
    end = bisect_left(plan, stop, key=lambda t: t.first)
    return (t for t in plan[:end] if t.last > start)
