"""The settings of the Bleed pass."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec.structs import replace

from isophon.core.audio.leak import Leak, Removal
from isophon.core.passes.bleed.mark import HitMark
from isophon.core.ranges import LONGEST_S


class BleedSettings(msgspec.Struct, frozen=True):
    """What the Bleed pass does.

    ``much``: how much of the predicted leak is taken out, 0 to 1; ``careful``: how
    much of what the prediction missed is left for the voice's sake, 0 to 1;
    ``nudge_ms``: the cue moved later by hand before it is looked for;
    ``learn_from``, ``learn_to``: the span in s that the leak is learned from, both 0 for
    the moments in which it is clearest.
    """

    on: bool = True
    much: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 1.0
    careful: Annotated[float, msgspec.Meta(ge=0.0, le=1.0)] = 0.5
    nudge_ms: Annotated[float, msgspec.Meta(ge=-2_000.0, le=2_000.0)] = 0.0
    learn_from: Annotated[float, msgspec.Meta(ge=0.0, le=LONGEST_S)] = 0.0
    learn_to: Annotated[float, msgspec.Meta(ge=0.0, le=LONGEST_S)] = 0.0

    @property
    def removal(self) -> Removal:
        """How the leak is taken out."""
        return Removal(self.on, self.much, self.careful)

    @property
    def moments(self) -> tuple[tuple[float, float], ...]:
        """The spans in s to learn from; none: those in which the leak is clearest."""
        return ((self.learn_from, self.learn_to),) if self.learn_to > self.learn_from else ()


def role_default(_role: str) -> BleedSettings:
    """The settings that a part of a role starts with."""
    return BleedSettings()


class BleedCut(msgspec.Struct, frozen=True):
    """The leak named ``key`` taken out over frames ``first`` to ``last`` (the whole take), the spans ``left`` aside."""

    first: int
    last: int
    key: str
    much: float
    careful: float
    left: tuple[tuple[int, int], ...] = ()
    edge: int = 240


def with_moments(settings: BleedSettings, leak: Leak) -> BleedSettings:
    """Settings that name the span that a leak was learned from."""
    start, end = leak.moments[0] if leak.moments else (0.0, 0.0)
    return replace(settings, learn_from=start, learn_to=end)


def change_of(mark: HitMark, settings: BleedSettings, _context: object = None) -> float:
    """What is done to a hit of the leak, in dB ≤ 0, as it was measured with everything taken out."""
    return -round(settings.much * mark.less_db, 1) if settings.on and not mark.hand.leave else 0.0
