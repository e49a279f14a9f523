"""How this person listens on this machine: output, volume, sides, limiter. Kept between starts, in no session."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Annotated

import msgspec
from msgspec import Meta

from isophon.app.model.state import state_folder
from isophon.core.atomic import write_text
from isophon.core.errors import IsophonError
from isophon.core.playing.device import Wanted
from isophon.core.playing.output import RIGHT, STEREO
from isophon.core.playing.remote_device import Listening
from isophon.core.reading import read_bytes

LOWEST_DB, HIGHEST_DB = -60.0, 12.0
RATES = (0, 44_100, 48_000, 88_200, 96_000, 192_000)
PRE_ROLLS = ((0.0, 0), (1.0, 0), (2.0, 0), (4.0, 0), (2.0, 1), (4.0, 2))  # seconds; bars, where the song has any
BLOCKS = (0, 128, 256, 512, 1_024, 2_048)
_MOST_BYTES = 1 << 16


class ListeningSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """What was chosen; ``sides`` starts as both every time, since one that is left off is taken for a fault."""

    device: Annotated[str, Meta(max_length=500)] = ""
    rate: int = 0
    block: int = 0
    volume_db: Annotated[float, Meta(ge=LOWEST_DB, le=HIGHEST_DB)] = 0.0
    limited: bool = True
    pre_roll_s: Annotated[float, Meta(ge=0.0, le=10.0)] = 0.0
    pre_roll_bars: Annotated[int, Meta(ge=0, le=4)] = 0
    matched: bool = True
    sides: Annotated[int, Meta(ge=STEREO, le=RIGHT)] = STEREO

    @property
    def wanted(self) -> Wanted:
        """The output that is wanted."""
        rate, block = (value if value in known else 0 for value, known in ((self.rate, RATES), (self.block, BLOCKS)))
        return Wanted(self.device, rate, block)

    @property
    def at_the_ears(self) -> Listening:
        """What the output does to all that is heard."""
        return Listening(self.volume_db, self.sides, self.limited)


def recalled() -> ListeningSettings:
    """What was kept; what cannot be read counts as nothing."""
    try:
        settings = msgspec.json.decode(read_bytes(_path(), _MOST_BYTES), type=ListeningSettings)
    except (IsophonError, msgspec.MsgspecError, ValueError, RecursionError):
        return ListeningSettings()
    return msgspec.structs.replace(settings, sides=STEREO)


def keep(settings: ListeningSettings) -> None:
    """Keep it for the next start; where there is no room for that, no work is harmed."""
    with contextlib.suppress(IsophonError):
        write_text(_path(), msgspec.json.encode(settings).decode() + "\n")


def _path() -> Path:
    return state_folder() / "listening.json"
