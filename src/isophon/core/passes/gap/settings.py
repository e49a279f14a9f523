"""The settings of dead air, and what they make of a gap."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

from isophon.core.marks import GONE_DB, Mark
from isophon.core.passes.gap.mark import GapMark
from isophon.core.passes.gap.pause import Breaths, dead_air, goes_along
from isophon.core.passes.singing import OVER_FLOOR_DB
from isophon.core.ranges import Seconds

DRAWN_S = (0.03, 86_400.0)  # shortest and longest that can be drawn
_LEAST_LEFT_MS = 10.0  # ms: a pause in which less would be left is not treated
_NEAR_AFTER_S = 0.015  # s after a word in which a fade is a risk
_NEAR_BEFORE_S = 0.010  # s before one


# what a person said to be sung or not, so many spans at most
SaidSpans = Annotated[tuple[tuple[Seconds, Seconds], ...], msgspec.Meta(max_length=500)]


class GapSettings(msgspec.Struct, frozen=True):
    """What is done with dead air where no hand decided.

    ``how``: fill it with room tone, turn it down, or silence it. ``down_db``:
    by how much, where it is turned down. ``floor_db``: only gaps whose loudest
    moment stands this far over the room are touched. ``after_ms``, ``before_ms``:
    what stays untouched after a word and before the next. ``least_ms``: shorter
    gaps are left. ``closes_ms``, ``opens_ms``: how long the change takes to come
    after a word, and to go before the next. Drawn over time that is the curve of a gate. ``sensitivity_db``: what
    stands this far over the noise floor beside a voice is singing; ``sung``, ``unsung``: the spans (s) of which a
    person said that they are singing, or are not.
    """

    how: Literal["room tone", "turn down", "silence"] = "room tone"
    down_db: Annotated[float, msgspec.Meta(ge=GONE_DB, le=0.0)] = -12.0
    floor_db: Annotated[float, msgspec.Meta(ge=0.0, le=60.0)] = 6.0
    after_ms: Annotated[float, msgspec.Meta(ge=0.0, le=1_000.0)] = 80.0
    before_ms: Annotated[float, msgspec.Meta(ge=0.0, le=1_000.0)] = 30.0
    least_ms: Annotated[float, msgspec.Meta(ge=50.0, le=5_000.0)] = 400.0
    closes_ms: Annotated[float, msgspec.Meta(ge=2.0, le=800.0)] = 40.0
    opens_ms: Annotated[float, msgspec.Meta(ge=2.0, le=200.0)] = 10.0
    sensitivity_db: Annotated[float, msgspec.Meta(ge=2.0, le=30.0)] = OVER_FLOOR_DB
    sung: SaidSpans = ()
    unsung: SaidSpans = ()


_STACK = GapSettings(how="silence", floor_db=0.0)  # twelve layers of room add up: common practice
_OF_ROLE = {"double": _STACK, "harmony": _STACK}


def role_default(role: str) -> GapSettings:
    """The settings that a part of a role starts with."""
    return _OF_ROLE.get(role, GapSettings())


def near_words(mark: Mark, settings: GapSettings, duration: float) -> tuple[bool, bool]:
    """Whether what is done to a gap begins or ends within 15 or 10 ms of a word.

    That is where soft tails and starts may go: a matter for ears.
    """
    start, end = mark.span
    after, before = settings.after_ms / 1000, settings.before_ms / 1000
    return (
        mark.start > 0 and start + after - mark.start < _NEAR_AFTER_S,
        mark.end < duration - 1e-3 and mark.end - (end - before) < _NEAR_BEFORE_S,
    )


def change_of(mark: GapMark, settings: GapSettings, breaths: Breaths) -> float:
    """What is done to a gap, in dB ≤ 0; −36 and less: what sounds there is taken out completely.

    What would be left alone goes along with a breath that leaves a hole.
    """
    if mark.hand.leave:
        return 0.0
    return change_alone(mark, settings, breaths) or (GONE_DB if goes_along(mark, breaths) else 0.0)


def change_alone(mark: GapMark, settings: GapSettings, breaths: Breaths) -> float:
    """The same but for what goes along with a breath."""
    if mark.hand.change_db is not None:
        return mark.hand.change_db
    length = sum(end - start for start, end in dead_air(mark, breaths))
    if 1000 * length < max(settings.least_ms, settings.after_ms + settings.before_ms + _LEAST_LEFT_MS):
        return 0.0
    if mark.over_room_db < settings.floor_db:
        return 0.0
    return settings.down_db if settings.how == "turn down" else GONE_DB
