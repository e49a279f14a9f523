"""What can be heard at once of a scene, what stands in for the rest, and the rest, rendered ahead."""

from __future__ import annotations

from collections import deque
from dataclasses import replace
from typing import Any
from weakref import WeakKeyDictionary

from isophon.core.playing.mix import Scene, Strip, make, ready
from isophon.core.staging import Plan

_PLANS_KEPT = 4  # plans of each renderer that are remembered


class Readiness:
    """Of scenes at ``sample_rate`` Hz; it keeps the plans by which each renderer was heard last."""

    def __init__(self, sample_rate: int) -> None:
        self.rate = sample_rate
        self._heard: WeakKeyDictionary[Any, deque[Plan]] = WeakKeyDictionary()

    def all(self, scene: Scene, start: int, frames: int) -> bool:
        """Whether a span of a scene can be heard without rendering any of it."""
        return all(ready(strip, self.rate, start, frames) for strip in scene)

    def scene(self, scene: Scene, start: int, frames: int) -> Scene:
        """A scene as far as it is ready in a span; what is not is as it was heard last, else as sung."""
        return tuple(self._strip(strip, start, frames) for strip in scene)

    def _strip(self, strip: Strip, start: int, frames: int) -> Strip:
        earlier = self._heard.setdefault(strip.renderer, deque(maxlen=_PLANS_KEPT))
        if ready(strip, self.rate, start, frames):
            if strip.plan and (not earlier or earlier[0] is not strip.plan):
                earlier.appendleft(strip.plan)
            return strip
        others = (replace(strip, plan=plan) for plan in (*earlier, ()))
        return next(one for one in others if not one.plan or ready(one, self.rate, start, frames))

    def make_next(self, scene: Scene, spans: list[tuple[int, int]]) -> bool:
        """Render the first of some spans (start, frames) that is not ready; whether there was one."""
        for at, frames in spans:
            for strip in scene:
                if not ready(strip, self.rate, at, frames):
                    make(strip, self.rate, at, frames)
                    return True
        return False
