"""Whole takes as they were rendered last, kept on disk beside what was measured of them.

What is kept is named after the plan that it was made by, and only given out for that plan; it serves the plans
after it too, wherever they change nothing (see :class:`isophon.core.render.Renderer`).
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec
import numpy as np

from isophon.core.errors import InputError
from isophon.core.reading import read_bytes
from isophon.core.render import Plan
from isophon.core.takes.cache import DAMAGE, make_room, mapped, whole

_FOLDER, _SOUND, _KEY = "rendered", "samples.npy", "plan.txt"


def name_of(plan: Plan) -> str:
    """The name of a plan: equal plans, equal names."""
    told = msgspec.json.encode([(type(t).__name__, t) for t in plan], enc_hook=float)
    return hashlib.sha256(told).hexdigest()[:32]


def keep_rendered(place: Path, plan: Plan, blocks: Iterator[np.ndarray], shape: tuple[int, int],
                  tell: Callable[[float], None]) -> None:  # fmt: skip
    """Keep a take, ``shape`` (channels, frames), as a plan renders it; OutputError if there is no room."""
    make_room(place.parent)
    with whole(place / _FOLDER) as folder:
        with (folder / _SOUND).open("wb") as file:
            header = {"descr": "<f4", "fortran_order": False, "shape": shape[::-1]}
            np.lib.format.write_array_header_1_0(file, header)
            done = 0
            for block in blocks:
                file.write(np.ascontiguousarray(block.T, "<f4").data)
                done += block.shape[1]
                tell(done / shape[1])
        (folder / _KEY).write_text(name_of(plan))


def kept_rendered(place: Path, plan: Plan, shape: tuple[int, int]) -> np.ndarray | None:
    """What was kept for just this plan, float32 ``(channels, frames)`` mapped from disk; None where nothing is."""
    try:
        if read_bytes(place / _FOLDER / _KEY).decode() != name_of(plan):
            return None
        samples = mapped(place / _FOLDER / _SOUND)
    except (*DAMAGE, UnicodeDecodeError, InputError):
        return None
    return samples.T if samples.shape == shape[::-1] and samples.dtype == np.float32 else None
