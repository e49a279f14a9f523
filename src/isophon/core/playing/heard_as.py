"""How a mix is heard: which of its versions, how loud, and through what; the output reads it from the ring."""

from __future__ import annotations

from isophon.core.playing.ring import Ring
from isophon.core.session.chain import NAMES, Chain

COMPARES = ("as sung", "cleaned", "removed")


class HeardAs:
    """Writes it into a ring, whenever it changes."""

    def __init__(self, ring: Ring) -> None:
        self._ring = ring
        self._compare, self._match_db, self._matches = "cleaned", 0.0, False
        self._chain: Chain | None = None
        self._write()

    def set_compare(self, compare: str) -> None:
        """Which of COMPARES is heard."""
        self._compare = compare
        self._write()

    def set_match(self, gain_db: float | None) -> None:
        """Let cleaned be as loud as as sung, by the loop or by what was heard lately; None: as it is.

        ``gain_db``: the gain until something was heard.
        """
        self._matches, self._match_db = gain_db is not None, gain_db or 0.0
        self._write()

    def set_chain(self, chain: Chain | None) -> None:
        """What is heard goes through a rough chain; None: as it is."""
        self._chain = chain
        self._write()

    def set_listening(self, volume_db: float, sides: int, limited: bool) -> None:
        """How loud it is at the ears, which of SIDES are heard, and whether through the limiter."""
        self._ring["volume_db"], self._ring["sides"], self._ring["limited"] = volume_db, sides, limited

    def _write(self) -> None:
        ring, compare = self._ring, self._compare
        cleaned = {"as sung": 0.0, "removed": -1.0}.get(compare, 10 ** (self._match_db / 20))
        ring["sung"], ring["cleaned"], ring["rest"] = compare != "cleaned", cleaned, compare != "removed"
        ring["match"] = self._matches
        if self._chain is not None:
            for name in NAMES:
                ring[name] = getattr(self._chain, name)
        ring["chained"] = self._chain is not None and compare != "removed"
