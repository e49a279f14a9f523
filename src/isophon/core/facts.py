"""What was measured of a whole take beside its marks: facts that treatments start from."""

from __future__ import annotations

import msgspec

from isophon.core.passes.hum.model import Hum
from isophon.core.ranges import Hertz, Level


class Facts(msgspec.Struct, frozen=True):
    """``lowest_hz``: the lowest notes; ``room``: the sound of the room, third octaves in dBFS; ``hum``: None without;
    ``noise``: the hiss in bands, see :func:`isophon.core.passes.hiss.settings.noise_of`.
    """

    lowest_hz: Hertz | None = None
    room: tuple[Level, ...] = ()
    hum: Hum | None = None
    noise: tuple[Level, ...] = ()
