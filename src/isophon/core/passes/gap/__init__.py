"""Dead air, of the Floor pass: gaps, heads and tails, filled with room tone, turned down or silenced."""

from typing import Any

from isophon.core.audio.spectra import third_octave_edges
from isophon.core.passes import fades
from isophon.core.passes.ears import Ears
from isophon.core.passes.gap import find, settings, treat
from isophon.core.passes.kind import Found, Kind
from isophon.core.passes.stillness import density
from isophon.core.ranges import Level


def _find(ears: Ears) -> Found:
    return Found(find.find(ears.survey, ears.singing, ears.marks("breath")))


def _flaw(part: Any) -> str:
    bands, told = len(third_octave_edges(*find.ROOM_EDGES)) - 1, len(part.measured.room)
    return "" if told in (0, bands) else f"measured.room: holds {told} levels, not {bands}"


KIND = Kind(
    "gap", settings.GapSettings, settings.role_default, fades.STAGE, treat.gap_fades,
    find=_find, also=lambda ears: {"room": find.room_of(density(ears))},
    change=lambda mark, settings_, context: settings.change_of(mark, settings_), drawn_s=settings.DRAWN_S,
    reads=("rumble", "hiss", "band"), measures={"room": (tuple[Level, ...], ())}, flaw=_flaw,
)  # fmt: skip
