"""What a person prefers of the program, whatever is open: size of type, motion, how many processes work."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Annotated, Literal

import msgspec

from isophon.app.model.state import state_folder
from isophon.core.audio.writing import write_text
from isophon.core.errors import IsophonError
from isophon.core.reading import read_bytes

TypeSize = Literal["desktop", "usual", "large", "larger"]
TYPE_SIZES: dict[TypeSize, str] = {"desktop": "As the desktop", "usual": "Usual", "large": "Large", "larger": "Larger"}
TYPE_FACTORS: dict[TypeSize, float] = {"usual": 1.0, "large": 1.25, "larger": 1.5}
MOST_WORKERS = 8
_MOST_BYTES = 1 << 12


class Preferences(msgspec.Struct, frozen=True):
    """``type_size`` and ``workers`` (0: as many as suit the machine) act from the next start on, ``motion`` at once."""

    type_size: TypeSize = "desktop"
    motion: bool = True
    workers: Annotated[int, msgspec.Meta(ge=0, le=MOST_WORKERS)] = 0


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
