"""The session file: JSON, readable by people, whole or not at all; and voice cards.

See docs/file-format.md. Recordings are named relative to the session file where
they lie beside or below it.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from isophon.core.audio.writing import write_text
from isophon.core.errors import InputError
from isophon.core.passes.esses.settings import EssSettings
from isophon.core.session.model import Session

ENDING = ".isophon"
VERSION = 1


class _SessionFile(msgspec.Struct):
    isophon_session: int
    session: Session


class _CardFile(msgspec.Struct):
    isophon_voice_card: int
    name: str
    ess: EssSettings


def save(session: Session, path: Path) -> None:
    """Write ``session`` to ``path``; OutputError if that cannot be done, the old file then stays."""
    folder = path.resolve().parent
    parts = tuple(
        replace(p, source=replace(p.source, path=_relative(Path(p.source.path), folder))) for p in session.parts
    )
    _write(path, _SessionFile(VERSION, replace(session, parts=parts)))


def load(path: Path) -> Session:
    """Read a session; InputError says what is wrong and where."""
    whole = _read(path, _SessionFile, "isophon_session", "an Isophon session")
    folder = path.resolve().parent
    parts = tuple(
        replace(p, source=replace(p.source, path=str((folder / p.source.path).resolve()))) for p in whole.session.parts
    )
    return replace(whole.session, parts=parts)


def save_card(name: str, settings: EssSettings, path: Path) -> None:
    """Write a voice card."""
    _write(path, _CardFile(VERSION, name, settings))


def load_card(path: Path) -> EssSettings:
    """The settings of a voice card; InputError says what is wrong and where."""
    return _read(path, _CardFile, "isophon_voice_card", "a voice card").ess


def _write(path: Path, value: Any) -> None:
    text = msgspec.json.format(msgspec.json.encode(value), indent=1).decode()
    write_text(path, text + "\n")


def _read(path: Path, kind: type, key: str, what: str) -> Any:
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(f"{path.name}: cannot be read ({error.strerror}); check the name and the folder") from error
    try:
        head = msgspec.json.decode(data)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(f"{path.name}: is damaged ({error}); nothing was changed, go back to a copy") from error
    if not isinstance(head, dict) or key not in head:
        raise InputError(f"{path.name}: is not {what}; choose another file")
    if isinstance(head[key], int) and head[key] > VERSION:
        raise InputError(f"{path.name}: was written by a newer Isophon (version {head[key]}); update this one")
    try:
        return msgspec.convert(head, kind)
    except msgspec.ValidationError as error:
        raise InputError(f"{path.name}: is damaged ({error}); nothing was changed, go back to a copy") from error


def _relative(path: Path, folder: Path) -> str:
    try:
        return path.resolve().relative_to(folder).as_posix()
    except ValueError:
        return str(path)
