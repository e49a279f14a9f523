"""The session as a value: frozen, hashable, comparable. Audio is never in it; it names files."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from operator import attrgetter
from typing import Annotated, Any, Literal, TypeVar, cast

import msgspec
import numpy as np

from isophon.core.audio.leak import Leak, Removal
from isophon.core.marks import Mark, kind_of
from isophon.core.passes import BY_NAME, KINDS, NAMES, AnyMark, Measured, Settings
from isophon.core.ranges import (
    LETTERS,
    MOST_HEARD,
    MOST_MARKERS,
    MOST_MARKS,
    MOST_PARTS,
    Key,
    Letter,
    Level,
    Name,
    PlayedMark,
    Start,
)
from isophon.core.session.bars import Bars
from isophon.core.session.chain import Chain
from isophon.core.session.items import Guide, Listening, Marker, Source
from isophon.core.session.marks_of_kind import MarksOfKind, are_same, by_kind
from isophon.core.session.stored_version import Version
from isophon.core.staging import Plan, joined
from isophon.core.survey import Survey

M = TypeVar("M", bound=Mark)
Item = TypeVar("Item", "Part", "Guide", "Part | Guide")
ROLES = ("lead", "double", "harmony", "adlib")
Role = Literal["lead", "double", "harmony", "adlib"]


class Part(Settings, frozen=True, dict=True):
    """One recorded vocal, what was found in it and what was decided; its settings are those of :class:`Settings`.

    ``offset_s``: where it starts in the song; its marks count from its own
    start. ``found``: whether the marks were looked for yet. ``voice_lufs`` and
    ``floor_dbfs`` are what the survey measured, None before it; ``measured``: what
    else was measured; ``learned``: the noise of the span that a person chose;
    ``leak``: what is known of the cues in it; ``heard_without``: the bleed that was out when its marks were found;
    ``follows``: the parts that it is lined up with, one or several, where those are not all leads;
    ``heard_beside``: that part, and its place, beside which it was heard.
    ``done``: the passes that a person called done; ``accepted``: settings that were taken over from a proposal, as
    ``kind.setting``.
    """

    id: Name
    name: Name
    source: Source
    role: Role = "lead"
    singer: Name = ""
    offset_s: Start = 0.0
    listening: Listening = Listening()
    done: Annotated[tuple[Name, ...], msgspec.Meta(max_length=100)] = ()
    marks: Annotated[tuple[AnyMark, ...], msgspec.Meta(max_length=MOST_MARKS)] = ()
    found: bool = False
    voice_lufs: Level | None = None
    floor_dbfs: Level | None = None
    measured: Measured = Measured()
    learned: tuple[Level, ...] = ()
    leak: Leak | None = None
    heard_without: Name = ""
    follows: Name | Annotated[tuple[Name, ...], msgspec.Meta(max_length=MOST_PARTS)] = ""
    heard_beside: Key = ""
    accepted: Annotated[tuple[Name, ...], msgspec.Meta(max_length=1_000)] = ()

    @property
    def stale(self) -> bool:
        """Whether the bleed has changed since the marks were found."""
        return self.found and self.heard_without != self.removal.key(self.leak)

    @cached_property
    def ends_s(self) -> float:
        """The last second that is heard of it, from its own start: it may have grown past the end of its recording."""
        grown = (kind.cure.ends_s(self) for kind in KINDS if kind.cure.ends_s)
        return max(self.source.duration, *grown, 0.0)

    @property
    def follows_ids(self) -> tuple[str, ...]:
        """The ids of the parts that were chosen to be followed; none: all leads."""
        chosen = (self.follows,) if isinstance(self.follows, str) else self.follows
        return tuple(name for name in chosen if name)

    @property
    def removal(self) -> Removal:
        """How the leak is taken out."""
        how = ((kind.leak_removal, kind.name) for kind in KINDS)
        return next((one.removal(self.settings(name)) for one, name in how if one), Removal())

    @property
    def cue_nudge_s(self) -> float:
        """By how much cues were moved later by hand before their leak is looked for."""
        how = ((kind.leak_removal, kind.name) for kind in KINDS)
        return next((one.nudge_s(self.settings(name)) for one, name in how if one), 0.0)

    @property
    def needs_leak(self) -> str:
        """The name of the leak's sound that must be there for the part to be rendered, '' for none."""
        return self.leak.key if self.leak is not None and self.removal.on else ""

    def settings(self, kind: str) -> Any:
        """The settings of a kind."""
        return getattr(self, kind)

    @cached_property
    def _kinds(self) -> dict[str, MarksOfKind]:
        rows = by_kind(self.marks)
        return {kind.name: MarksOfKind(kind, rows.get(kind.name, ())) for kind in KINDS}

    def after(self, before: Part) -> Part:
        """This value, with what was worked out of an earlier one of the same part wherever nothing of it differs."""
        worked = before.__dict__.get("_kinds")
        if worked is None or before is self or any(getattr(self, n) != getattr(before, n) for n in _COUNTS_FOR_ALL):
            return self
        rows = by_kind(self.marks)
        same_marks = {name: are_same(rows.get(name, ()), worked[name].marks) for name in BY_NAME}
        same = {name: is_same and getattr(self, name) == getattr(before, name) for name, is_same in same_marks.items()}
        kinds = self.__dict__["_kinds"] = {
            kind.name: worked[kind.name] if all(same[name] for name in (kind.name, *kind.cure.reads))
            else MarksOfKind(kind, rows.get(kind.name, ()), worked[kind.name])
            for kind in KINDS
        }  # fmt: skip
        for kind in (one for one in KINDS if not all(same[name] for name in one.cure.reads_in_context)):
            if not kinds[kind.name].is_for(kind.decision.context(self)):
                kinds[kind.name] = MarksOfKind(kind, rows.get(kind.name, ()), worked[kind.name])
        return self

    def context(self, kind: str) -> Any:
        """What the changes of a kind's marks depend on beside its settings; for esses, the singer's usual one."""
        return self._kinds[kind].context(self)

    @cached_property
    def _by_id(self) -> dict[str, Mark]:
        return {m.id: m for m in self.marks}

    @cached_property
    def _changes(self) -> dict[str, float]:
        return {name: change for one in self._kinds.values() for name, change in one.changes(self).items()}

    @property
    def changes(self) -> Mapping[str, float]:
        """What is done to each mark, in dB, by its name; the same mapping as long as nothing else is done."""
        return self._changes

    def changed(self, kind: str) -> list[tuple[Mark, float]]:
        """The marks of a kind to which something is done, each with its change in dB."""
        return self._kinds[kind].changed(self)

    @property
    def plan(self) -> Plan:
        """All that is done to this part, in order of the first frame that changes."""
        return self.plan_without(())

    @cached_property
    def _plans(self) -> dict[tuple[str, ...], Plan]:
        return {}

    def plan_without(self, kinds: tuple[str, ...]) -> Plan:
        """The same without some kinds."""
        if kinds not in self._plans:
            rest = (one for name, one in self._kinds.items() if name not in kinds)
            treatments = joined([one.treatments(self) for one in rest])
            self._plans[kinds] = tuple(sorted(treatments, key=attrgetter("first")))
        return self._plans[kinds]

    def with_agreed(self, marks: tuple[Mark, ...]) -> Part:
        """The same with ``marks``, which differ in what was agreed to alone: all that was worked out of them holds."""
        part = msgspec.structs.replace(self, marks=marks)
        for known in ("_changes", "_plans"):
            if known in self.__dict__:
                part.__dict__[known] = self.__dict__[known]
        if "_kinds" in self.__dict__:
            rows = by_kind(marks)
            part.__dict__["_kinds"] = {
                name: one if are_same(rows.get(name, ()), one.marks) else one.with_agreed(rows[name])
                for name, one in self._kinds.items()
            }
        return part

    def undecided(self, kind: str) -> tuple[Mark, ...]:
        """The marks of a kind that are over their ceiling and that nobody has agreed to, changed or left yet.

        None where its pass was called done.
        """
        return () if kind in self.done else self._kinds[kind].undecided(self)

    def undecided_at(self, kind: str) -> np.ndarray:
        """Where the undecided marks of a kind start, ``(marks,)``, s."""
        return np.array([]) if kind in self.done else self._kinds[kind].undecided_at(self)

    def over(self, kind: str) -> frozenset[str]:
        """The marks of a kind that are over their ceiling or decided by hand, as :attr:`Session.heard` calls them."""
        return self._kinds[kind].over(self)

    def risks(self, kind: str, survey: Survey) -> Mapping[str, float]:
        """How risky what is done to the marks of a kind is, by their names, see :class:`isophon.core.passes.kind.Risk`.

        ``survey``: of this part's take.
        """
        return self._kinds[kind].risks(self, survey)

    def of_kind(self, kind: str) -> tuple[Mark, ...]:
        """The marks of a kind, in order of time."""
        return self._kinds[kind].marks

    def of(self, kind: type[M]) -> tuple[M, ...]:
        """The marks of a class, in order of time."""
        return cast("tuple[M, ...]", self.of_kind(kind_of(kind)))

    def changes_of(self, kind: type[M]) -> list[tuple[M, float]]:
        """The marks of a class to which something is done, each with its change in dB."""
        return cast("list[tuple[M, float]]", self.changed(kind_of(kind)))

    def prepare(self) -> None:
        """Work out all that is asked of a part again and again, before anybody waits for it."""
        _ = self.plan
        for name, one in self._kinds.items():
            self.undecided_at(name)
            self.over(name)
            if one.is_crowd:
                one.tallest((0.0, 1.0), 1)

    def tallest(self, kind: str, view: tuple[float, float], columns: int) -> tuple[Mark, ...]:
        """Of very many marks of a kind, those that can be told apart where a view (s) is so many columns wide."""
        return self._kinds[kind].tallest(view, columns)

    def after_steady(self, levels: np.ndarray, hz: np.ndarray) -> np.ndarray:
        """Levels at frequencies after all that is done to the complete take.

        Parameters
        ----------
        levels : ``(n,)``, dB.
        hz : ``(n,)``, Hz.

        Returns
        -------
        ``(n,)``, dB.
        """
        for kind in KINDS:
            if kind.cure.steady is not None:
                levels = levels + kind.cure.steady(self, hz)
        return levels

    def change(self, mark: Mark) -> float:
        """What is done to a mark of this part, in the unit of its kind."""
        return self._changes[mark.id]

    def acts(self, mark: Mark) -> bool:
        """Whether anything is done to a mark of this part."""
        return bool(self._changes.get(mark.id))

    def heard_at(self, seconds: float) -> float:
        """When a second of this part is heard once its time is mapped."""
        for maps in (kind.cure.maps for kind in KINDS if kind.cure.maps):
            seconds = maps(self, seconds)
        return seconds

    def mark(self, mark_id: str) -> Mark | None:
        """The mark of that name."""
        return self._by_id.get(mark_id)


_FOR_ONE_KIND_OR_NONE = {*NAMES, "marks", "id", "name", "singer", "listening", "done", "found", "follows", "accepted"}
_COUNTS_FOR_ALL = tuple(name for name in Part.__struct_fields__ if name not in _FOR_ONE_KIND_OR_NONE)


class Session(msgspec.Struct, frozen=True):
    """One song's cleaning. ``rate``: the rate that all stems are handed over at, None: each at its own.

    ``heard``: the marks that were played since they were found, as ``part/mark``, in order of these names. ``chain``:
    the rough chain that it is listened to through; it reaches no file. ``versions``: other ways of cleaning, and
    ``version``: the letter of the one that is in force, '' for none. ``bars``: its tempo and meter.
    """

    name: Name
    parts: Annotated[tuple[Part, ...], msgspec.Meta(max_length=MOST_PARTS)] = ()
    guides: Annotated[tuple[Guide, ...], msgspec.Meta(max_length=MOST_PARTS)] = ()
    markers: Annotated[tuple[Marker, ...], msgspec.Meta(max_length=MOST_MARKERS)] = ()
    rate: Literal[44_100, 48_000, 88_200, 96_000] | None = None
    heard: Annotated[tuple[PlayedMark, ...], msgspec.Meta(max_length=MOST_HEARD)] = ()
    chain: Chain = Chain()
    versions: Annotated[tuple[Version, ...], msgspec.Meta(max_length=len(LETTERS))] = ()
    version: Letter | Literal[""] = ""
    bars: Bars = Bars()

    def part(self, part_id: str) -> Part:
        """The part of that name; KeyError if there is none."""
        return _named(part_id, self.parts)

    @property
    def lead(self) -> Part | None:
        """The first lead."""
        return next(iter(self.leads), None)

    @property
    def leads(self) -> tuple[Part, ...]:
        """The parts that the stack follows."""
        return tuple(part for part in self.parts if part.role == "lead")

    def followed(self, part: Part) -> tuple[Part, ...]:
        """The parts that another follows, at each moment the one that sings: those chosen, else all leads.

        A lead has none.
        """
        if part.role == "lead":
            return ()
        chosen = tuple(one for one in self.parts if one.id in part.follows_ids and one.id != part.id)
        return chosen or self.leads

    def followed_by(self, part: Part) -> Part | None:
        """The first of those."""
        return next(iter(self.followed(part)), None)

    def leads_met(self, part: Part) -> tuple[Part, ...]:
        """The leads whose sounds those of a part meet: of those that it follows, else all."""
        return tuple(one for one in self.followed(part) if one.role == "lead") or self.leads

    @property
    def items(self) -> tuple[Part | Guide, ...]:
        """Parts and references, in order."""
        return (*self.parts, *self.guides)

    def item(self, item_id: str) -> Part | Guide:
        """The part or reference of that name; KeyError if there is none."""
        return _named(item_id, self.items)

    @property
    def span(self) -> tuple[float, float]:
        """The song: from its first to its last sound, in seconds; it begins at 0 or before."""
        return (
            min(0.0, *(i.offset_s for i in self.items), 0.0),
            max(0.0, *(i.offset_s + i.ends_s for i in self.items), 0.0),
        )


def _named(name: str, among: tuple[Item, ...]) -> Item:
    for item in among:
        if item.id == name:
            return item
    raise KeyError(name)
