"""Laying out a session: edits that add, remove, replace, order and name its parts and references.

What a file is (its role, or which reference) is guessed by :mod:`isophon.core.takes.roles`.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from typing import Any, cast

import msgspec
from msgspec.structs import replace

from isophon.core.audio.files import Recording
from isophon.core.errors import CallError, shown
from isophon.core.passes import NAMES
from isophon.core.ranges import MOST_MARKERS
from isophon.core.reading import path_of, spelled
from isophon.core.session.adopting import linked
from isophon.core.session.edits import with_part
from isophon.core.session.items import GUIDES, Guide, GuideKind, Listening, Marker, Source
from isophon.core.session.model import ROLES, Part, Role, Session
from isophon.core.session.settings import role_default

_LONGEST_NAME = 200  # letters of a name
GAIN_RANGE_DB = (-40.0, 12.0)  # dB by which a part may be made softer or louder
RATES = (44_100, 48_000, 88_200, 96_000)  # Hz that may be chosen for all stems


class Arrival(msgspec.Struct, frozen=True):
    """A file to be laid out: what it is named, its source, and its role or which reference it is."""

    name: str
    source: Source
    what: str = "lead"


def source_of(recording: Recording) -> Source:
    """What a session keeps of a recording."""
    return Source(
        spelled(recording.path), recording.sample_rate, recording.channels, recording.frames, recording.time_reference
    )


def new_session(name: str, arrivals: Iterable[Arrival] = ()) -> Session:
    """A session of these files."""
    return add(Session(name), arrivals)


def add(session: Session, arrivals: Iterable[Arrival]) -> Session:
    """Add files at the end; those whose recorder kept the time start where it says."""
    arrivals = list(arrivals)
    known = [(i.source, i.offset_s) for i in session.items if i.source.time_reference is not None]
    new = [a.source for a in arrivals if a.source.time_reference is not None]
    zero = _clock(known[0][0]) - known[0][1] if known else min(map(_clock, new), default=0.0)
    for arrival in arrivals:
        has_clock = arrival.source.time_reference is not None
        offset = round(_clock(arrival.source) - zero, 6) + 0.0 if has_clock else 0.0
        session = _with_item(session, arrival.what, _free_id(session), arrival.name, arrival.source, offset)
    return session


def remove(session: Session, ids: Collection[str]) -> Session:
    """Take parts and references out of the session; the files stay."""
    return replace(
        session,
        parts=tuple(p for p in session.parts if p.id not in ids),
        guides=tuple(g for g in session.guides if g.id not in ids),
        markers=tuple(m for m in session.markers if not m.part or m.part not in ids),
    )


def move(session: Session, item_id: str, step: int) -> Session:
    """Move a part among the parts, or a reference among the references, by ``step`` places."""

    def moved(items: tuple) -> tuple:
        at = next((i for i, item in enumerate(items) if item.id == item_id), None)
        if at is None:
            return items
        rest = [item for item in items if item.id != item_id]
        rest.insert(min(len(rest), max(0, at + step)), items[at])
        return tuple(rest)

    return replace(session, parts=moved(session.parts), guides=moved(session.guides))


def set_name(session: Session, item_id: str, name: str) -> Session:
    """Name a part or reference; an empty name changes nothing."""
    name = shown(name.strip())[:_LONGEST_NAME]
    return with_item(session, item_id, name=name) if name else session


def set_singer(session: Session, part_id: str, singer: str) -> Session:
    """Say who sings a part."""
    return with_part(session, part_id, lambda part: replace(part, singer=shown(singer.strip())[:_LONGEST_NAME]))


def set_follows(session: Session, part_id: str, other_ids: Sequence[str]) -> Session:
    """Say which parts another follows, at each moment the one that sings; none: all leads."""
    others = {part.id for part in session.parts} - {part_id}
    for other_id in other_ids:
        if other_id not in others:
            raise CallError(f"{other_id}: is no other part; name a part that this one can follow")
    follows = other_ids[0] if len(other_ids) == 1 else tuple(other_ids)
    return linked(with_part(session, part_id, lambda part: replace(part, follows=follows or "")))


def set_offset(session: Session, item_id: str, seconds: float) -> Session:
    """Say where a part or reference starts in the song, in seconds."""
    if not abs(seconds) <= 36_000:
        raise CallError(f"{seconds} s is no start within a song; use seconds from −36000 to 36000")
    return linked(with_item(session, item_id, offset_s=round(seconds, 6)))


def set_what(session: Session, item_id: str, what: str) -> Session:
    """Say what an item is: a role, or which reference.

    Settings that were the old role's default become the new role's. A part that
    becomes a reference keeps name, place and listening, and loses what was found.
    """
    item = session.item(item_id)
    if isinstance(item, Part) and what in ROLES:
        own = {kind: role_default(kind, what) for kind in NAMES
               if getattr(item, kind) == role_default(kind, item.role)}  # fmt: skip
        return linked(with_part(session, item_id, lambda part: replace(part, role=what, **own)))
    if isinstance(item, Guide) and what in GUIDES:
        return with_item(session, item_id, kind=what)
    if what not in (*ROLES, *GUIDES):
        raise CallError(f"'{what}' is no role and no guide; use {', '.join((*ROLES, *GUIDES))}")
    session = _with_item(remove(session, [item_id]), what, item_id, item.name, item.source, item.offset_s)
    return with_item(session, item_id, listening=item.listening)


def set_listening(session: Session, item_id: str, **values: Any) -> Session:
    """Set the gain (dB), pan or mute of a part or reference, for listening only."""
    listening: Listening = replace(session.item(item_id).listening, **values)
    low, high = GAIN_RANGE_DB
    listening = replace(
        listening,
        gain_db=round(min(high, max(low, listening.gain_db)), 2),
        pan=round(min(1.0, max(-1.0, listening.pan)), 2),
    )
    return with_item(session, item_id, listening=listening)


def mute(session: Session, item_id: str, muted: bool) -> Session:
    """Mute a part or reference, or no longer; nothing changes where it is not there."""
    there = any(item.id == item_id for item in session.items)
    return set_listening(session, item_id, muted=muted) if there else session


def relink(session: Session, item_id: str, source: Source) -> Session:
    """Let an item name another recording. If its shape differs, its marks are looked for again."""
    old = session.item(item_id)
    same = (old.source.sample_rate, old.source.channels, old.source.frames) == (
        source.sample_rate,
        source.channels,
        source.frames,
    )
    if isinstance(old, Part) and not same:
        return with_item(session, item_id, source=source, found=False)
    return with_item(session, item_id, source=source)


def set_rate(session: Session, rate: int | None) -> Session:
    """The rate that all stems are handed over at; None: each at its own."""
    if rate is not None and rate not in RATES:
        raise CallError(f"{rate} Hz cannot be chosen for all stems; use one of {', '.join(map(str, RATES))}")
    return replace(session, rate=rate)


def add_marker(session: Session, at: float, name: str) -> Session:
    """Name a place in the song; CallError where it has as many as a session can hold."""
    return add_markers(session, [(at, name)])


def add_markers(session: Session, places: Sequence[tuple[float, str]]) -> Session:
    """Name places in the song, each by its seconds and its name; CallError where it cannot hold so many."""
    first = _number(new_marker_id(session))
    names = [shown(name.strip())[:_LONGEST_NAME] or f"Place {first + i}" for i, (_, name) in enumerate(places)]
    added = [Marker(f"marker-{first + i}", round(at, 3), name)
             for i, ((at, _), name) in enumerate(zip(places, names, strict=True))]  # fmt: skip
    return with_markers(session, added)


def with_markers(session: Session, markers: Sequence[Marker]) -> Session:
    """A session with more markers or notes; CallError where it cannot hold so many."""
    if len(session.markers) + len(markers) > MOST_MARKERS:
        raise CallError(f"a song has at most {MOST_MARKERS} markers and notes; delete one first")
    return replace(session, markers=tuple(sorted((*session.markers, *markers), key=lambda m: (m.at, m.id))))


def new_marker_id(session: Session) -> str:
    """A name by which files and steps know a marker, that no marker has yet."""
    return f"marker-{1 + max((_number(m.id) for m in session.markers), default=0)}"


def change_marker(session: Session, marker_id: str, at: float | None = None, name: str | None = None) -> Session:
    """Move or rename a marker."""

    def changed(marker: Marker) -> Marker:
        if marker.id != marker_id:
            return marker
        named = shown((name or "").strip())[:_LONGEST_NAME] or marker.name
        return replace(marker, at=marker.at if at is None else round(at, 3), name=named)

    return replace(session, markers=tuple(sorted(map(changed, session.markers), key=lambda m: (m.at, m.id))))


def remove_marker(session: Session, marker_id: str) -> Session:
    """Take a marker away."""
    return replace(session, markers=tuple(m for m in session.markers if m.id != marker_id))


def with_item(session: Session, item_id: str, **values: Any) -> Session:
    """A session with values of one part or reference changed; KeyError if there is none of that name."""
    session.item(item_id)
    return replace(
        session,
        parts=tuple(replace(p, **values) if p.id == item_id else p for p in session.parts),
        guides=tuple(replace(g, **values) if g.id == item_id else g for g in session.guides),
    )


def _with_item(session: Session, what: str, item_id: str, name: str, source: Source, offset: float) -> Session:
    if what in GUIDES:
        return replace(session, guides=(*session.guides, Guide(item_id, name, source, cast("GuideKind", what), offset)))
    own = {kind: role_default(kind, what) for kind in NAMES}
    part = Part(item_id, name, source, cast("Role", what), offset_s=offset, **own)
    return replace(session, parts=(*session.parts, part))


def _free_id(session: Session) -> str:
    return f"part-{1 + max((_number(item.id) for item in session.items), default=0)}"


def _number(name: str) -> int:
    """The number that a name made by this program ends with; 0 for any other."""
    found = re.search(r"-(\d{1,9})$", name)
    return int(found[1]) if found else 0


def _clock(source: Source) -> float:
    return (source.time_reference or 0) / source.sample_rate


def file_name(path: str) -> str:
    """A name for a part from its file's name, as ``Source.path`` spells it."""
    place = path_of(path)
    return shown(place.stem.replace("_", " ").strip() or place.name)[:_LONGEST_NAME]
