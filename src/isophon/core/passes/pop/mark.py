"""The mark of a pop."""

from __future__ import annotations

from isophon.core.marks import Mark


class PopMark(Mark, frozen=True, tag="pop"):
    """A burst of low air."""
