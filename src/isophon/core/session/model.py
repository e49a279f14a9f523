"""The session as a value: frozen, hashable, comparable. Audio is never in it; it names files."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Annotated, Literal

import msgspec
import numpy as np

from isophon.core.audio.loudness import db
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.facts import Facts
from isophon.core.marks import Mark
from isophon.core.passes.bleed import settings as bleed
from isophon.core.passes.bleed.settings import BleedCut, BleedSettings, Leak
from isophon.core.passes.breaths import settings as breaths
from isophon.core.passes.breaths.settings import GONE_DB, BreathSettings
from isophon.core.passes.esses import settings as esses
from isophon.core.passes.esses import treat
from isophon.core.passes.esses.settings import EssSettings, usual_standout
from isophon.core.passes.gaps import settings as gaps
from isophon.core.passes.gaps.find import ROOM_EDGES
from isophon.core.passes.gaps.settings import GapSettings
from isophon.core.passes.gaps.treat import Fade
from isophon.core.passes.hiss import settings as hiss
from isophon.core.passes.hiss.settings import HissSettings
from isophon.core.passes.hiss.treat import HissCut
from isophon.core.passes.hum.model import HumCut, HumSettings
from isophon.core.passes.pops.settings import PopSettings
from isophon.core.passes.pops.treat import PopCut
from isophon.core.passes.rumble.lowcut import LowCut, RumbleSettings, cut_of, loss_db
from isophon.core.passes.ticks import settings as ticks
from isophon.core.passes.ticks.settings import TickSettings
from isophon.core.passes.ticks.treat import Repair
from isophon.core.ranges import (
    MOST_MARKERS,
    MOST_MARKS,
    MOST_PARTS,
    File,
    Frames,
    Level,
    Name,
    Place,
    Rate,
    Seconds,
    Sides,
    Start,
)
from isophon.core.render import Plan

_CHANGES = {
    "bleed": bleed.change_of, "gap": gaps.change_of, "breath": breaths.change_of,
    "pop": breaths.change_of, "tick": ticks.change_of
}  # fmt: skip
ROLES = ("lead", "double", "harmony", "adlib")
GUIDES = ("cue", "bed")
Role = Literal["lead", "double", "harmony", "adlib"]
GuideKind = Literal["cue", "bed"]


class Source(msgspec.Struct, frozen=True):
    """The recording a part or guide names: where it is and what it was when it was first opened.

    ``time_reference``: its first frame on the recorder's clock, in frames since
    midnight (EBU Tech 3285), None where the file tells none.
    """

    path: File
    sample_rate: Rate
    channels: Sides
    frames: Frames
    time_reference: Place | None = None

    @property
    def duration(self) -> float:
        """Length in seconds."""
        return self.frames / self.sample_rate


class Listening(msgspec.Struct, frozen=True):
    """How something is heard in the mix; never handed over. ``pan``: −1 left to 1 right."""

    gain_db: Annotated[float, msgspec.Meta(ge=-40.0, le=12.0)] = 0.0
    pan: Annotated[float, msgspec.Meta(ge=-1.0, le=1.0)] = 0.0
    muted: bool = False


class Guide(msgspec.Struct, frozen=True):
    """A recording that helps but is never cleaned or handed over."""

    id: Name
    name: Name
    source: Source
    kind: GuideKind
    offset_s: Start = 0.0
    listening: Listening = Listening()


class Marker(msgspec.Struct, frozen=True):
    """A named place in the song, in seconds of the song."""

    id: Name
    at: Seconds
    name: Name


class Part(msgspec.Struct, frozen=True, dict=True):
    """One recorded vocal, what was found in it and what was decided.

    ``offset_s``: where it starts in the song; its marks count from its own
    start. ``found``: whether the marks were looked for yet. ``voice_lufs`` and
    ``floor_dbfs`` are what the survey measured, None before it; ``facts``: what
    else was measured; ``learned``: the noise of the span that a person chose;
    ``leak``: what is known of the cues in it; ``heard_without``: the bleed that was out when its marks were found.
    ``done``: the passes that a person called done.
    """

    id: Name
    name: Name
    source: Source
    role: Role = "lead"
    singer: Name = ""
    offset_s: Start = 0.0
    listening: Listening = Listening()
    done: Annotated[tuple[Name, ...], msgspec.Meta(max_length=100)] = ()
    rumble: RumbleSettings = RumbleSettings()
    hum: HumSettings = HumSettings()
    hiss: HissSettings = HissSettings()
    bleed: BleedSettings = BleedSettings()
    gap: GapSettings = GapSettings()
    pop: PopSettings = PopSettings()
    tick: TickSettings = TickSettings()
    breath: BreathSettings = BreathSettings()
    ess: EssSettings = EssSettings()
    marks: Annotated[tuple[Mark, ...], msgspec.Meta(max_length=MOST_MARKS)] = ()
    found: bool = False
    voice_lufs: Level | None = None
    floor_dbfs: Level | None = None
    facts: Facts = Facts()
    learned: tuple[Level, ...] = ()
    leak: Leak | None = None
    heard_without: Name = ""

    @property
    def stale(self) -> bool:
        """Whether the bleed has changed since the marks were found."""
        return self.found and self.heard_without != bleed.in_force(self.leak, self.bleed)

    @cached_property
    def usual(self) -> float | None:
        """Stand-out of this singer's usual ess, None where too few were found."""
        return usual_standout(self.marks, self.ess.sure)

    @cached_property
    def _by_id(self) -> dict[str, Mark]:
        return {m.id: m for m in self.marks}

    @cached_property
    def _changes(self) -> dict[str, float]:
        return {m.id: self._change_of(m) for m in self.marks}

    def _change_of(self, mark: Mark) -> float:
        if mark.kind == "ess":
            return esses.change_of(mark, self.ess, self.usual)
        return _CHANGES[mark.kind](mark, getattr(self, mark.kind))

    @cached_property
    def low_cut_hz(self) -> float | None:
        """The low cut in force, None for none."""
        return cut_of(self.rumble, self.facts.lowest_hz)

    @cached_property
    def plan(self) -> Plan:
        """All that is done to this part, in order of the first frame that changes."""
        rate, frames = self.source.sample_rate, self.source.frames
        tamed = treat.treatments(self.marks, self.ess, self.usual, rate)
        return tuple(
            sorted(
                (*self._whole(rate, frames), *self._spots(rate, frames), *self._fades(rate, frames), *tamed),
                key=lambda t: t.first,
            )
        )

    def _whole(self, rate: int, frames: int) -> Iterator[BleedCut | HumCut | LowCut | HissCut]:
        """What is done to the whole take."""
        if self.bleed.on and self.leak is not None and self.leak.key and self.bleed.much > 0:
            left = tuple((round(m.start * rate), round(m.end * rate)) for m in self.of_kind("bleed") if m.hand.leave)
            yield BleedCut(0, frames, self.leak.key, self.bleed.much, self.bleed.careful, left, round(0.005 * rate))
        if self.hum.on and self.facts.hum is not None:
            yield HumCut(0, frames, self.facts.hum, self.hum.top_hz)
        if self.low_cut_hz is not None:
            yield LowCut(0, frames, self.low_cut_hz, self.rumble.slope, rate)
        noise = self.noise
        if self.hiss.on and noise and (max(noise) > hiss.SILENT_DB or self.hiss.top_db > 0):
            esses = tuple((round(m.start * rate), round(m.end * rate)) for m in self.of_kind("ess"))
            top = self.hiss.top_db
            amount, begin = self.hiss.amount_db, self.hiss.from_hz
            yield HissCut(0, frames, noise, amount, begin, top, rate, esses if top > 0 else ())

    def _spots(self, rate: int, frames: int) -> Iterator[Repair | PopCut]:
        """What is done to ticks and pops."""
        for mark in (*self.of_kind("tick"), *self.of_kind("pop")):
            change = self.change(mark)
            first, last = (min(frames, max(0, round(t * rate))) for t in mark.span)
            if change > -0.05 or last - first < 2:
                continue
            if mark.kind == "tick":
                yield Repair(first, last, rate, not mark.voiced and not mark.sound, mark.sound == "clipped")
            else:
                gain = 0.0 if change <= GONE_DB else float(10 ** (change / 20))
                edge = round(self.pop.edge_ms / 1000 * rate)
                yield PopCut(first, last, edge, gain, mark.hand.high_hz or mark.high_hz, rate)

    @property
    def noise(self) -> tuple[float, ...]:
        """The noise in force: of the span that a person chose, else of the still moments."""
        chosen = self.learned and self.hiss.learn_to > self.hiss.learn_from
        return self.learned if chosen else self.facts.noise

    @property
    def hiss_level(self) -> float:
        """The level of the noise above the frequency from which it is turned down, dBFS."""
        rate = self.source.sample_rate
        centres = (np.arange(len(self.noise)) + 0.5) * rate / 2 / hiss.BANDS
        power = 10 ** (np.array(self.noise) / 10) * rate / 2 / hiss.BANDS
        return round(db(float(power[centres >= self.hiss.from_hz].sum())), 1)

    @cached_property
    def _room(self) -> tuple[float, ...]:
        """The sound of the room as low cut and hiss leave it: what goes on under a hole."""
        if not self.facts.room:
            return ()
        edges = third_octave_edges(*ROOM_EDGES)
        centres = np.sqrt(edges[:-1] * edges[1:])
        levels = np.array(self.facts.room)
        if self.low_cut_hz is not None:
            levels = levels - loss_db(self.low_cut_hz, self.rumble.slope, centres)
        if self.hiss.on and self.noise:
            levels = levels + self.hiss.amount_db * hiss.emphasis(centres, self.hiss.from_hz)
        return tuple(float(round(level, 1)) for level in levels)

    def _fades(self, rate: int, frames: int) -> list[Fade]:
        """What is done to gaps and breaths."""
        fades = []
        for mark in self.marks:
            change = self.change(mark)
            if mark.kind not in ("gap", "breath") or change > -0.05:
                continue
            start, end = mark.span
            if mark.kind == "gap":
                settings, fill = self.gap, self.gap.how == "room tone"
                closes, opens = settings.closes_ms, settings.opens_ms
                start += 0.0 if start <= 0 else settings.after_ms / 1000
                end -= 0.0 if end >= self.source.duration - 1e-3 else settings.before_ms / 1000
            else:
                fill, closes, opens = self.breath.fill, self.breath.fade_ms, self.breath.fade_ms
            first, last = max(0, round(start * rate)), min(frames, round(end * rate))
            gain = 0.0 if change <= GONE_DB else float(10 ** (change / 20))
            if last - first > 8:
                edges = (min(round(ms / 1000 * rate), (last - first) // 2) for ms in (closes, opens))
                edge, opening = edges
                fades.append(Fade(first, last, edge, gain, self._room if fill else (), rate, opening))
        return fades

    @cached_property
    def _by_kind(self) -> dict[str, tuple[Mark, ...]]:
        kinds = {m.kind for m in self.marks}
        return {kind: tuple(m for m in self.marks if m.kind == kind) for kind in kinds}

    def of_kind(self, kind: str) -> tuple[Mark, ...]:
        """The marks of a kind, in order of time."""
        return self._by_kind.get(kind, ())

    def change(self, mark: Mark) -> float:
        """What is done to a mark of this part, in dB ≤ 0."""
        return self._changes[mark.id]

    def mark(self, mark_id: str) -> Mark | None:
        """The mark of that name."""
        return self._by_id.get(mark_id)


class Session(msgspec.Struct, frozen=True):
    """One song's cleaning. ``rate``: the rate that all stems are handed over at, None: each at its own."""

    name: Name
    parts: Annotated[tuple[Part, ...], msgspec.Meta(max_length=MOST_PARTS)] = ()
    guides: Annotated[tuple[Guide, ...], msgspec.Meta(max_length=MOST_PARTS)] = ()
    markers: Annotated[tuple[Marker, ...], msgspec.Meta(max_length=MOST_MARKERS)] = ()
    rate: Literal[44_100, 48_000, 88_200, 96_000] | None = None

    def part(self, part_id: str) -> Part:
        """The part of that name; KeyError if there is none."""
        return _named(part_id, self.parts)

    @property
    def items(self) -> tuple[Part | Guide, ...]:
        """Parts and guides, in order."""
        return (*self.parts, *self.guides)

    def item(self, item_id: str) -> Part | Guide:
        """The part or guide of that name; KeyError if there is none."""
        return _named(item_id, self.items)

    @property
    def span(self) -> tuple[float, float]:
        """The song: from its first to its last sound, in seconds; it begins at 0 or before."""
        return (
            min(0.0, *(i.offset_s for i in self.items), 0.0),
            max(0.0, *(i.offset_s + i.source.duration for i in self.items), 0.0),
        )


def _named(name: str, among: tuple) -> Part | Guide:
    for item in among:
        if item.id == name:
            return item
    raise KeyError(name)
