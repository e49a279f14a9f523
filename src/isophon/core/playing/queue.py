"""The chunks that are heard now and later, and the place that is heard."""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

from isophon.core.playing.chunks import Chunk
from isophon.core.playing.ring import Ring


class GivenUp(NamedTuple):
    """What follows once chunks were given up. ``goes_on``: the frame that comes then, None where none was given up;
    ``target``: where a jump leads that was among them.
    """

    goes_on: int | None
    target: int | None


class ChunkQueue:
    """Chunks in the order in which they lie in the ring. ``for_now``: what is heard is not all as it is to be."""

    def __init__(self, ring: Ring) -> None:
        self._ring = ring
        self.chunks: deque[Chunk] = deque()
        self.for_now = False
        self._place = int(ring["read"]), 0  # a frame of the ring, and that of the mix

    @property
    def last(self) -> Chunk | None:
        """The chunk after which nothing is queued."""
        return self.chunks[-1] if self.chunks else None

    @property
    def ends(self) -> int:
        """The frame of the ring at which the last one ends; 0 where there is none."""
        return self.last.at + self.last.frames if self.last else 0

    def add(self, chunk: Chunk) -> None:
        """Put a chunk into the ring."""
        self.chunks.append(chunk._replace(at=self._ring.append(chunk.mix)))

    def follow(self) -> None:
        """Take note of what was read."""
        read = int(self._ring["read"])
        while self.chunks and self.chunks[0].at < read:
            chunk = self.chunks[0]
            self._place, self.for_now = (chunk.at, chunk.start), chunk.for_now
            if chunk.at + chunk.frames > read:
                break
            self.chunks.popleft()

    def position(self, speed: float) -> int:
        """The frame heard now."""
        at, start = self._place
        return start + round((int(self._ring["read"]) - at) * speed)

    def be_at(self, frame: int) -> None:
        """Nothing is queued: what is heard next is a frame of the mix."""
        self._place = int(self._ring["read"]), frame

    def clear(self) -> None:
        """Give up all of it."""
        self.chunks.clear()

    def give_up_from(self, at: int) -> GivenUp:
        """Give up the chunks that begin at a frame of the ring, or later."""
        goes_on: int | None = None
        target: int | None = None
        while self.chunks and self.chunks[-1].at >= at:
            chunk = self.chunks.pop()
            target = chunk.start if chunk.jumped and target is None else target
            goes_on = chunk.start if chunk.jump_from is None else chunk.jump_from
        return GivenUp(goes_on, target)

    def jump_target(self) -> int | None:
        """Where a jump leads that is queued and not heard yet."""
        read = self._ring["read"]
        return next((chunk.start for chunk in reversed(self.chunks) if chunk.jumped and chunk.at >= read), None)

    def is_ready(self, version: int) -> bool:
        """Whether samples of a version are queued, as they are to be."""
        return any(chunk.version >= version and not chunk.for_now for chunk in tuple(self.chunks))
