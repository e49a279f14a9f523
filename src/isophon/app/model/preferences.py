"""What a person prefers of the program, whatever is open: size of type, motion, how many processes work."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Annotated, Literal

import msgspec

from isophon.app.model.state import state_folder
from isophon.app.translation import Language
from isophon.core.atomic import write_text
from isophon.core.errors import IsophonError
from isophon.core.reading import read_bytes

TypeSize = Literal["desktop", "usual", "large", "larger"]
TYPE_SIZES: dict[TypeSize, str] = {"desktop": "As the desktop", "usual": "Usual", "large": "Large", "larger": "Larger"}
TYPE_FACTORS: dict[TypeSize, float] = {"usual": 1.0, "large": 1.25, "larger": 1.5}
MOST_WORKERS = 8
_MOST_BYTES = 1 << 16
_Folder = Annotated[str, msgspec.Meta(max_length=4_096)]
_Word = Annotated[str, msgspec.Meta(max_length=40)]


class Preferences(msgspec.Struct, frozen=True):
    """``type_size``, ``language`` and ``workers`` (0: as many as suit the machine) act from the next start on,
    ``motion`` at once.

    ``save_every_min``: a session with a file is saved by itself, 0: never. ``measurements_gb``: how much room what was
    measured may take, from the next start on. ``recordings``: the folder in which dialogs begin; empty: where it was
    last. ``stems``: where is handed over to; empty: beside the recordings. ``in_bars``: the ruler counts bars where the
    song has any. ``keys``: those that a person has changed, by the action, as Qt spells them.
    """

    type_size: TypeSize = "desktop"
    language: Language = "desktop"
    motion: bool = True
    workers: Annotated[int, msgspec.Meta(ge=0, le=MOST_WORKERS)] = 0
    save_every_min: Annotated[int, msgspec.Meta(ge=0, le=60)] = 0
    measurements_gb: Annotated[int, msgspec.Meta(ge=1, le=500)] = 4
    recordings: _Folder = ""
    stems: _Folder = ""
    in_bars: bool = True
    keys: Annotated[dict[_Word, _Word], msgspec.Meta(max_length=300)] = {}


def preferences() -> Preferences:
    """Those in force; the usual ones where they cannot be read."""
    return _read(_path())


@lru_cache(maxsize=1)  # views ask for them at every glide
def _read(path: Path) -> Preferences:
    try:
        return msgspec.json.decode(read_bytes(path, _MOST_BYTES), type=Preferences)
    except (IsophonError, msgspec.MsgspecError, ValueError, RecursionError):
        return Preferences()


def prefer(**changed: object) -> None:
    """Change some, and keep them; OutputError where they cannot be written."""
    new = msgspec.convert({**msgspec.to_builtins(preferences()), **changed}, Preferences)
    try:
        write_text(_path(), msgspec.json.encode(new).decode() + "\n")
    finally:
        _read.cache_clear()


def _path() -> Path:
    return state_folder() / "preferences.json"
