"""The mark of a breath."""

from __future__ import annotations

from typing import Literal

from isophon.core.marks import Mark

Place = Literal["head", "between", "end"]


class BreathMark(Mark, frozen=True, tag="breath"):
    """Air between words. ``place``: at the head of a phrase, between its words, or at its end."""

    place: Place = "between"
