"""The session as a value: frozen, hashable, comparable. Audio is never in it; it names files."""

from __future__ import annotations

from functools import cached_property
from typing import Literal

import msgspec

from isophon.core.marks import Mark
from isophon.core.passes.esses import treat
from isophon.core.passes.esses.settings import EssSettings, change_of, usual_standout

ROLES = ("lead", "double", "harmony", "adlib")
Role = Literal["lead", "double", "harmony", "adlib"]


class Source(msgspec.Struct, frozen=True):
    """The recording a part names: where it is and what it was when it was first opened."""

    path: str
    sample_rate: int
    channels: int
    frames: int


class Part(msgspec.Struct, frozen=True, dict=True):
    """One recorded vocal, what was found in it and what was decided.

    ``found``: whether the marks were looked for yet. ``voice_lufs`` and
    ``floor_dbfs`` are what the survey measured, None before it.
    """

    id: str
    name: str
    source: Source
    role: Role = "lead"
    ess: EssSettings = EssSettings()
    marks: tuple[Mark, ...] = ()
    found: bool = False
    voice_lufs: float | None = None
    floor_dbfs: float | None = None

    @cached_property
    def usual(self) -> float | None:
        """Stand-out of this singer's usual ess, None where too few were found."""
        return usual_standout(self.marks, self.ess.sure)

    @cached_property
    def _by_id(self) -> dict[str, Mark]:
        return {m.id: m for m in self.marks}

    @cached_property
    def _changes(self) -> dict[str, float]:
        return {m.id: change_of(m, self.ess, self.usual) for m in self.marks}

    @cached_property
    def plan(self) -> tuple[treat.Treatment, ...]:
        """All that is done to this part."""
        return treat.treatments(self.marks, self.ess, self.usual, self.source.sample_rate)

    def change(self, mark: Mark) -> float:
        """What is done to a mark of this part, in dB ≤ 0."""
        return self._changes[mark.id]

    def mark(self, mark_id: str) -> Mark | None:
        """The mark of that name."""
        return self._by_id.get(mark_id)


class Session(msgspec.Struct, frozen=True):
    """One song's cleaning."""

    name: str
    parts: tuple[Part, ...] = ()

    def part(self, part_id: str) -> Part:
        """The part of that name; KeyError if there is none."""
        for part in self.parts:
            if part.id == part_id:
                return part
        raise KeyError(part_id)
