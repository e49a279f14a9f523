"""Parts to samples: a fold over the stages of the kinds, each working on what the one before left.

Every span rendered alone equals the same span of all rendered at once: what a stage does depends on the take and on the
treatments before it, never on the span that was asked for. Two ways lead to the same samples: single tiles, kept as
long as nothing that they depend on changes; and whole takes in order, in which each stage works once on long blocks
with as much around them as the stages after it reach. What the slow stages leave is read where it was made ahead
(:mod:`.heads`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np

from isophon.core.audio.threads import ahead
from isophon.core.heads import HEAD, HEAD_BLOCK, Heads, Kept, name_of
from isophon.core.passes import STAGES
from isophon.core.passes.stage import At, Read, Sounds, Stage, Treatment, touching
from isophon.core.render_cache import ByIdentity, RenderCache
from isophon.core.staging import Plan, levels_of

TILE = 1 << 14  # frames that are cleaned together
BLOCK = 1 << 19  # frames of a whole take worked on at once
_TOP = len(STAGES) - 1  # the last stage
_PLANS_KNOWN = 8  # plans whose tiles are remembered


class Renderer:
    """Renders one take. ``read(start, frames)`` gives it as sung, float32 ``(channels, frames)``.

    ``sounds(key)``: sounds that are kept beside the take (a leak's), None where they are not there (yet).
    ``head(name)``: what was made ahead, see :class:`isophon.core.heads.Heads`. ``tiles_made`` counts the tiles computed
    so far, ``heads_made`` the spans of them for which the slow stages had to work.
    """

    def __init__(self, read: Read, sample_rate: int, samples: int, cache: RenderCache | None = None,
                 sounds: Callable[[str], Sounds | None] = lambda _key: None,
                 head: Kept = lambda _name: None) -> None:  # fmt: skip
        self.read, self.sample_rate, self.samples = read, sample_rate, samples
        self._cache, self.sounds = cache or RenderCache(), sounds
        self._last: dict[bool, tuple[Plan, int, int, np.ndarray]] = {}
        self._heads = Heads(head)
        self._head_names: ByIdentity[tuple[Plan, ...], dict[int, str]] = ByIdentity(_PLANS_KNOWN)
        self._made_since, self._made_tiles = -1, ByIdentity[Plan, set[int]](_PLANS_KNOWN)
        self.tiles_made = self.heads_made = 0

    def sung(self, start: int, frames: int) -> np.ndarray:
        """The take as sung, float32 ``(channels, frames)``; like :attr:`read`, in memory by tiles."""
        return self.cleaned((), start, frames)

    def cleaned(self, plan: Plan, start: int, frames: int) -> np.ndarray:
        """The take cleaned by a plan.

        Parameters
        ----------
        plan : what is done.
        start, frames : the span.

        Returns
        -------
        float32 ``(channels, frames)``; not to be written to.
        """
        return _joined(start, frames, lambda index: self._tile(plan, index))

    def frames_of(self, plan: Plan) -> int:
        """How many frames are heard of the take under a plan: its own, and what reaches past its end."""
        return self._end(levels_of(plan), _TOP)

    def _end(self, levels: tuple[Plan, ...], level: int) -> int:
        """The frame after the last that the stages up to a level leave."""
        grown = (t.last for stage, mine in zip(STAGES[: level + 1], levels, strict=False) if stage.grows for t in mine)
        return max(self.samples, *grown, 0)

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
        if self._made_since != self._cache.generation:
            self._made_since, self._made_tiles = self._cache.generation, ByIdentity(_PLANS_KNOWN)
        return self._made_tiles.get(plan, set)

    def _is_made(self, plan: Plan, index: int) -> bool:
        start = index * TILE
        around = self._around(levels_of(plan), _TOP, start, start + TILE)
        touched = any(t.first < start + TILE and t.last > start for t in around)
        return not touched or self._cache.tiles.has((self, index, around))

    def blocks(self, plan: Plan, source: Iterator[np.ndarray]) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """The take in order, as sung and cleaned, without tiles in memory.

        Parameters
        ----------
        plan : what is done.
        source : the take as sung, ``(channels, n)`` each, which checks it.

        Returns
        -------
        Pairs of float32 ``(channels, n)``.
        """
        levels = levels_of(plan)

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
        margins = self._margins(levels)
        if any(levels[: HEAD + 1]):
            margin = margins[HEAD + 1]
            held = self._head(levels, start - margin, frames + 2 * margin, True)
            assert held is not None, "what is not there is made"
            return self._worked(levels, range(HEAD + 1, len(STAGES)), held, start, frames)
        held = self.read(start - margins[0], frames + 2 * margins[0])
        return self._worked(levels, range(len(STAGES)), held, start, frames)

    def _margins(self, levels: tuple[Plan, ...]) -> list[int]:
        """How much around a block each stage and those after it reach, in frames."""
        margins = [0] * (len(STAGES) + 1)
        for level in range(_TOP, -1, -1):
            reach = STAGES[level].reach(self.sample_rate) if levels[level] else 0
            margins[level] = margins[level + 1] + reach + (TILE if levels[level] and STAGES[level].fixed_blocks else 0)
        return margins

    def _worked(self, levels: tuple[Plan, ...], which: range, held: np.ndarray, start: int, frames: int) -> np.ndarray:
        """Some stages one after the other; ``held``: a block and the margins around it as the stages before left it."""
        margins = self._margins(levels)
        first = start - margins[which.start]
        for level in which:
            begin, stop = start - margins[level + 1], start + frames + margins[level + 1]
            mine = touching(levels[level], begin, stop)
            if not mine:
                held, first = held[:, begin - first : stop - first], begin
                continue
            read = self._held(levels, level, held, first)
            at = At(read, begin, stop - begin, self.sample_rate, None, self.sounds)
            stage = STAGES[level]
            done = _by_pieces(stage, at, levels[level]) if stage.fixed_blocks else stage.apply(at, mine)
            held, first = _inside(done, begin, self._end(levels, level)), begin
        return held

    # what the slow stages leave

    def head_names(self, plan: Plan) -> dict[int, str]:
        """The names of the blocks that the slow stages of a plan leave, by index; none where they do nothing."""
        levels, last = levels_of(plan), max(0, self.samples - 1) // HEAD_BLOCK
        names = {index: self._head_name(levels, index) for index in range(last + 1)}
        return {index: name for index, name in names.items() if name}

    def head_block(self, plan: Plan, index: int) -> np.ndarray:
        """A block of what the slow stages of a plan leave, rendered; float32 ``(channels, HEAD_BLOCK)``."""
        return self._head_block(levels_of(plan), index)

    def _head_block(self, levels: tuple[Plan, ...], index: int) -> np.ndarray:
        slow = levels[: HEAD + 1] + ((),) * (len(levels) - HEAD - 1)
        start, margin = index * HEAD_BLOCK, self._margins(slow)[0]
        frames = min(HEAD_BLOCK, self.samples - start)
        held = self.read(start - margin, frames + 2 * margin)
        block = self._worked(slow, range(HEAD + 1), held, start, frames)
        return np.pad(block, ((0, 0), (0, HEAD_BLOCK - frames)))

    def _head_name(self, levels: tuple[Plan, ...], index: int) -> str:
        names = self._head_names.get(levels, dict)
        if index not in names:
            around = self._around(levels, HEAD, index * HEAD_BLOCK, (index + 1) * HEAD_BLOCK)
            names[index] = name_of(index, around)
        return names[index]

    def _head(self, levels: tuple[Plan, ...], start: int, frames: int, make: bool) -> np.ndarray | None:
        """What the slow stages leave of a span, where it was made ahead; what was not is made, or it is None."""
        pieces = []
        for index in range(start // HEAD_BLOCK, (start + frames - 1) // HEAD_BLOCK + 1):
            first, last = max(start, index * HEAD_BLOCK), min(start + frames, (index + 1) * HEAD_BLOCK)
            name = self._head_name(levels, index)
            if not name or first >= self.samples:  # nothing is there past the end
                pieces.append(_joined(first, last - first, self._sung_tile))
                continue
            block = self._heads.block(name, partial(self._head_block, levels, index) if make else None)
            if block is None:
                return None
            pieces.append(block[:, first - index * HEAD_BLOCK : last - index * HEAD_BLOCK])
        return np.concatenate(pieces, axis=1) if len(pieces) > 1 else pieces[0]

    def _held(self, levels: tuple[Plan, ...], level: int, held: np.ndarray, first: int) -> Read:
        """Reads what the stages before a level left: where it is held, from there."""

        def read(start: int, frames: int) -> np.ndarray:
            if first <= start and start + frames <= first + held.shape[1]:
                return held[:, start - first : start - first + frames]
            return self._output_of_stages(levels, level - 1, start, frames, True)

        return read

    # tiles

    def _tile(self, plan: Plan, index: int) -> np.ndarray:
        last = self._last.get(bool(plan))
        generation = self._cache.generation
        if last and last[0] is plan and last[1:3] == (index, generation):  # most calls ask for the tile before again
            return last[3]
        start = index * TILE
        levels = levels_of(plan)
        around = self._around(levels, _TOP, start, start + TILE)
        if any(t.first < start + TILE and t.last > start for t in around):
            tile = self._cache.tiles.get((self, index, around), lambda: self._rendered(levels, start))
        else:
            tile = self._sung_tile(index)
        self._last[bool(plan)] = (plan, index, generation, tile)
        return tile

    def _rendered(self, levels: tuple[Plan, ...], start: int) -> np.ndarray:
        self.tiles_made += 1
        return self._output_of_stages(levels, _TOP, start, TILE)

    def _sung_tile(self, index: int) -> np.ndarray:
        return self._cache.sung.get((self, index), lambda: self.read(index * TILE, TILE))

    def _output_of_stages(
        self, levels: tuple[Plan, ...], level: int, start: int, frames: int, in_one_block: bool = False
    ) -> np.ndarray:
        """What the stages up to a level leave of a span. ``in_one_block``: the slow ones work by whole blocks."""
        mine: list[Treatment] = []
        while level >= 0:
            if level == HEAD and any(levels[: HEAD + 1]):
                head = self._head(levels, start, frames, in_one_block)
                if head is not None:
                    return head
                self.heads_made += 1
            mine = touching(levels[level], start, start + frames)
            if mine:
                break
            level -= 1
        if not mine:
            return _joined(start, frames, self._sung_tile)
        stage = STAGES[level]
        if stage.fixed_blocks and (start % TILE or frames != TILE):
            return self._by_tiles(levels, level, start, frames, in_one_block)
        before = partial(
            self._by_tiles if stage.cache_input and not in_one_block else self._output_of_stages, levels, level - 1
        )
        at = At(partial(before, in_one_block=True) if in_one_block else before, start, frames, self.sample_rate,
                partial(self._keep, levels, level), self.sounds)  # fmt: skip
        return _inside(stage.apply(at, mine), start, self._end(levels, level))

    def _by_tiles(self, levels: tuple[Plan, ...], level: int, start: int, frames: int,
                  in_one_block: bool = False) -> np.ndarray:  # fmt: skip
        """The same, kept by tiles."""

        def tile(index: int) -> np.ndarray:
            at = index * TILE
            around = self._around(levels, level, at, at + TILE)
            if not around:
                return self._sung_tile(index)
            make = partial(self._output_of_stages, levels, level, at, TILE, in_one_block)
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
            if remote := STAGES[at].remote_input:
                for treatment in mine:
                    found += self._around(levels, at - 1, *remote(treatment, start, stop))
            if STAGES[at].whole_span:
                start, stop = min(start, *(t.first for t in mine)), max(stop, *(t.last for t in mine))
            reach = STAGES[at].reach(self.sample_rate)
            start, stop = start - reach, stop + reach
        return tuple(found)


def _inside(block: np.ndarray, start: int, end: int) -> np.ndarray:
    """A block that begins at ``start``, with nothing before frame 0 and from ``end`` on."""
    before, after = max(0, -start), max(0, start + block.shape[1] - end)
    if before or after:
        block = block.copy()
        block[:, :before] = 0
        block[:, max(0, block.shape[1] - after) :] = 0
    return block


def _by_pieces(stage: Stage, at: At, treatments: Plan) -> np.ndarray:
    """What a stage does to a span, worked out by the same pieces wherever the span lies."""
    done = []
    for start in range(at.start // TILE * TILE, at.stop, TILE):
        piece = at._replace(start=start, frames=TILE)
        mine = touching(treatments, start, start + TILE)
        block = stage.apply(piece, mine) if mine else piece.block()
        done.append(block[:, max(0, at.start - start) : at.stop - start])
    return np.concatenate(done, axis=1)


def _joined(start: int, frames: int, tile: Callable[[int], np.ndarray]) -> np.ndarray:
    first, last = start // TILE, (start + frames - 1) // TILE
    tiles = [tile(index) for index in range(first, last + 1)]
    joined = np.concatenate(tiles, axis=1) if len(tiles) > 1 else tiles[0]
    return joined[:, start - first * TILE : start - first * TILE + frames]


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
