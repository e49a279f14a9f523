"""The session file: JSON, readable by people, whole or not at all; and voice cards.

See docs/file-format.md. Recordings are named relative to the session file where
they lie beside or below it.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from isophon.core.audio.writing import write_text
from isophon.core.errors import InputError
from isophon.core.passes.bleed.settings import BleedSettings
from isophon.core.passes.breaths.settings import BreathSettings
from isophon.core.passes.esses.settings import EssSettings
from isophon.core.passes.gaps.settings import GapSettings
from isophon.core.passes.hiss.settings import HissSettings
from isophon.core.passes.hum.model import HumSettings
from isophon.core.passes.pops.settings import PopSettings
from isophon.core.passes.rumble.lowcut import RumbleSettings
from isophon.core.passes.ticks.settings import TickSettings
from isophon.core.session.model import Guide, Marker, Part, Session
from isophon.core.session.settings import WORKING_KINDS, Settings

ENDING = ".isophon"
VERSION = 2
CARD_VERSION = 1


class _SessionFile(msgspec.Struct):
    isophon_session: int
    session: Session


class _CardFile(msgspec.Struct):
    isophon_voice_card: int
    name: str
    ess: EssSettings
    rumble: RumbleSettings = RumbleSettings()
    hum: HumSettings = HumSettings()
    hiss: HissSettings = HissSettings()
    gap: GapSettings = GapSettings()
    bleed: BleedSettings = BleedSettings()
    pop: PopSettings = PopSettings()
    tick: TickSettings = TickSettings()
    breath: BreathSettings = BreathSettings()


def save(session: Session, path: Path) -> None:
    """Write ``session`` to ``path``; OutputError if that cannot be done, the old file then stays."""
    folder = path.resolve().parent
    _write(path, _SessionFile(VERSION, _with_paths(session, lambda name: _relative(Path(name), folder))))


def load(path: Path) -> Session:
    """Read a session, of this version or an older one; InputError says what is wrong and where.

    An older one is looked through again, since it knew fewer kinds; decisions stay.
    """
    whole = _read(path, _SessionFile, "isophon_session", "an Isophon session", VERSION)
    session = whole.session
    if whole.isophon_session < VERSION:
        session = replace(session, parts=tuple(replace(part, found=False) for part in session.parts))
    return _resolved(session, path)


def rescue(path: Path) -> tuple[Session, list[str]]:
    """What can be read of a damaged session: the whole parts and guides, and a line for each that is lost.

    InputError where not even the outline can be read.
    """
    head = _outline(path, "isophon_session", "an Isophon session", VERSION)
    values, lost = head.get("session"), []
    if not isinstance(values, dict):
        raise InputError(f"{path.name}: is damaged at its beginning; nothing was changed, go back to a copy")
    kept: dict[str, Any] = {"name": str(values.get("name", path.stem))}
    for key, kind in (("parts", Part), ("guides", Guide), ("markers", Marker)):
        rows = values.get(key, [])
        whole = []
        for row in rows if isinstance(rows, list) else []:
            try:
                whole.append(msgspec.convert(row, kind))
            except msgspec.ValidationError as error:
                name = row.get("name", "?") if isinstance(row, dict) else "?"
                lost.append(f"{name}: {error}")
        kept[key] = tuple(whole)
    return _resolved(Session(**kept), path), lost


def save_card(name: str, part: Part, path: Path) -> None:
    """Write a part's settings as a voice card."""
    _write(path, _CardFile(CARD_VERSION, name, **{kind: getattr(part, kind) for kind in WORKING_KINDS}))


def load_card(path: Path) -> dict[str, Settings]:
    """The settings of a voice card by kind; InputError says what is wrong and where."""
    card = _read(path, _CardFile, "isophon_voice_card", "a voice card", CARD_VERSION)
    return {kind: getattr(card, kind) for kind in WORKING_KINDS}


def _resolved(session: Session, path: Path) -> Session:
    folder = path.resolve().parent
    return _with_paths(session, lambda name: str((folder / name).resolve()))


def _with_paths(session: Session, change: Callable[[str], str]) -> Session:
    def changed(items: tuple) -> tuple:
        return tuple(replace(i, source=replace(i.source, path=change(i.source.path))) for i in items)

    return replace(session, parts=changed(session.parts), guides=changed(session.guides))


def _write(path: Path, value: Any) -> None:
    text = msgspec.json.format(msgspec.json.encode(value), indent=1).decode()
    write_text(path, text + "\n")


def _outline(path: Path, key: str, what: str, version: int) -> dict[str, Any]:
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(f"{path.name}: cannot be read ({error.strerror}); check the name and the folder") from error
    try:
        head = json.loads(data.decode("utf-8"))
    except (ValueError, RecursionError) as error:  # json says the line and the column
        raise InputError(f"{path.name}: is damaged ({error}); nothing was changed, go back to a copy") from error
    if not isinstance(head, dict) or key not in head:
        raise InputError(f"{path.name}: is not {what}; choose another file")
    if isinstance(head[key], int) and head[key] > version:
        raise InputError(f"{path.name}: was written by a newer Isophon (version {head[key]}); update this one")
    return head


def _read(path: Path, kind: type, key: str, what: str, version: int) -> Any:
    head = _outline(path, key, what, version)
    try:
        return msgspec.convert(head, kind)
    except msgspec.ValidationError as error:
        raise InputError(f"{path.name}: is damaged ({error}); nothing was changed, go back to a copy") from error


def _relative(path: Path, folder: Path) -> str:
    try:
        return path.resolve().relative_to(folder).as_posix()
    except ValueError:
        return str(path)
