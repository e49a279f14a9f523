"""The mark of a spot."""

from __future__ import annotations

from isophon.core.marks import Mark


class SpotMark(Mark, frozen=True, tag="spot"):
    """A box in time and frequency, or a word that stands out of its phrase."""
