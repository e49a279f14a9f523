"""The mark of an ess."""

from __future__ import annotations

from typing import Self

from msgspec.structs import replace

from isophon.core.marks import Mark
from isophon.core.ranges import Hertz, Level, Name, Seconds


class EssMark(Mark, frozen=True, tag="ess"):
    """A sibilant.

    ``sound``: ``s``, ``sh``, ``t`` or ``f``; ``voiced``: the voice sounds under it (Z, Zh). ``partner_s``,
    ``partner_db``: start (in the part's time) and stand-out of the lead's ess that it meets, None for none.
    ``whistle_hz``, ``whistle_db``: a narrow peak inside it, and how far that stands over the rest of it; 0 for none.
    """

    sound: Name = ""
    voiced: bool = False
    partner_s: Seconds | None = None
    partner_db: Level = 0.0
    whistle_hz: Hertz = 0.0
    whistle_db: Level = 0.0

    def later(self, by_s: float) -> Self:
        """The same with all of its times later by ``by_s`` seconds."""
        partner_s = None if self.partner_s is None else self.partner_s + by_s
        return replace(super().later(by_s), partner_s=partner_s)
