"""Marks that come down to a ceiling over the voice, each as a whole."""

from __future__ import annotations

from typing import Protocol

from isophon.core.marks import Mark


class UnderCeiling(Protocol):
    """Settings of a kind whose marks come down to a ceiling over the voice."""

    @property
    def ceiling_db(self) -> float:
        """The stand-out over the voice that is let through."""

    @property
    def limit_db(self) -> float:
        """The deepest change."""

    @property
    def sure(self) -> float:
        """Marks of a lower confidence are left."""


def change_of(mark: Mark, settings: UnderCeiling, _context: object = None) -> float:
    """What is done to a mark, in dB ≤ 0; −36 and less: taken out completely."""
    hand = mark.hand
    if hand.leave:
        return 0.0
    if hand.change_db is not None:
        return hand.change_db
    if mark.confidence < settings.sure and not hand.drawn:
        return 0.0
    return max(settings.limit_db, min(0.0, settings.ceiling_db - mark.standout_db))
