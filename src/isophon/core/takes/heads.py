"""What slow stages leave of a take, rendered ahead and kept on disk in blocks beside what was measured of it.

See :mod:`isophon.core.heads`; a block whose name is known is right, and one that is not there is made anew.
"""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

import numpy as np

from isophon.core.atomic import atomic
from isophon.core.errors import OutputError
from isophon.core.heads import HEAD_BLOCK
from isophon.core.takes.cache import DAMAGE, make_room, mapped, signed

_NAME = re.compile(r"[0-9a-f]{32}")
_FOLDER, _ENDING = "heads", ".npy"


def keep_head(place: Path, name: str, block: np.ndarray) -> None:
    """Keeps a block, complete or not at all.

    Parameters
    ----------
    place : the take's folder in the cache.
    name : of the block.
    block : float32 ``(channels, HEAD_BLOCK)``.

    Raises
    ------
    OutputError
        Where there is no room.
    """
    make_room(place.parent)
    try:
        folder = signed(place / _FOLDER)
    except OSError as error:
        why = f"what is rendered ahead cannot be kept ({error.strerror}); make room on that disk"
        raise OutputError(why) from error
    with atomic(folder / (name + _ENDING), force=True) as temporary, temporary.open("wb") as file:
        np.save(file, np.ascontiguousarray(block.T, "<f4"))


def kept_head(place: Path, name: str, channels: int) -> np.ndarray | None:
    """A block mapped from disk, float32 ``(channels, HEAD_BLOCK)``; None where there is none."""
    if not _NAME.fullmatch(name):
        return None
    try:
        samples = mapped(place / _FOLDER / (name + _ENDING))
    except DAMAGE:
        return None
    return samples.T if samples.shape == (HEAD_BLOCK, channels) and samples.dtype == np.float32 else None


def give_up_heads(place: Path, names: set[str], most: int) -> None:
    """Give up the oldest blocks of other names beyond ``most`` of them: undoing finds the newer ones."""
    with contextlib.suppress(OSError):
        others = [path for path in (place / _FOLDER).glob("*" + _ENDING) if path.stem not in names]
        for path in sorted(others, key=lambda p: p.stat().st_mtime)[: max(0, len(others) - most)]:
            path.unlink()
