"""Recordings that take the place of others: which are meant, and how they differ from those before."""

from __future__ import annotations

from pathlib import Path

from isophon.app import theme
from isophon.core.audio.files import Recording
from isophon.core.reading import is_there, path_of
from isophon.core.session import layout
from isophon.core.session.items import Guide, Source
from isophon.core.session.model import Part, Session


def missing_beside(session: Session, folder: Path, item_id: str) -> dict[str, Path]:
    """Files in a folder that have the names of recordings which are missing, by the item; ``item_id`` aside."""
    found = {}
    for item in session.items:
        beside = folder / path_of(item.source.path).name
        if item.id != item_id and not is_there(path_of(item.source.path)) and is_there(beside):
            found[item.id] = beside
    return found


def source_at(path: Path) -> Source:
    """What a session keeps of a recording; InputError where it cannot be read."""
    with Recording(path) as recording:
        return layout.source_of(recording)


def other_shape(item: Part | Guide, now: Source) -> str:
    """What is said of a replacement that is not as long, or not at the rate, that the file before was."""
    before = item.source
    said = []
    if abs(now.duration - before.duration) > 0.001:
        said.append(f"{theme.clock(now.duration)} long, not {theme.clock(before.duration)}")
    if now.sample_rate != before.sample_rate:
        said.append(f"at {now.sample_rate / 1000:g} kHz, not {before.sample_rate / 1000:g}")
    again = " Its marks are found again; your decisions stay." if isinstance(item, Part) else ""
    return f"{item.name} is now {' and '.join(said)}.{again}" if said else ""
