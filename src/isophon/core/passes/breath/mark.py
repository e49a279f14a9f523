"""The mark of a breath."""

from __future__ import annotations

from isophon.core.marks import Mark


class BreathMark(Mark, frozen=True, tag="breath"):
    """Air between words."""
