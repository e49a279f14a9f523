"""A version: what was decided of all parts, kept under a letter."""

from __future__ import annotations

from typing import Annotated

import msgspec

from isophon.core.passes import AnyMark, Settings
from isophon.core.ranges import (
    MOST_MARKS,
    MOST_PARTS,
    Letter,
    Level,
    Name,
)


class PartDecisions(Settings, frozen=True):
    """What was decided of a part, as :class:`Part` has it; ``marks``: those of which something was decided."""

    id: Name
    done: Annotated[tuple[Name, ...], msgspec.Meta(max_length=100)] = ()
    learned: tuple[Level, ...] = ()
    marks: Annotated[tuple[AnyMark, ...], msgspec.Meta(max_length=MOST_MARKS)] = ()


class Version(msgspec.Struct, frozen=True):
    """What was decided of all parts, kept under a letter."""

    letter: Letter
    parts: Annotated[tuple[PartDecisions, ...], msgspec.Meta(max_length=MOST_PARTS)] = ()
