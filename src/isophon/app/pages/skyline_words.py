"""The line over the skyline: what it shows, and how much of it is left to be heard."""

from __future__ import annotations

from typing import Any

from isophon.app.model.workspace import AUDIBLE


def skyline_words(page: Any, whose: str) -> str:
    """``page``: the work page, which imports this; ``whose``: the part and its voice, in words."""
    workspace, route, hearing = page.workspace, page.title.route, page.hearing
    if page.skyline.empty:
        return str(page.skyline.empty_text())
    words = workspace.pass_.words
    in_time = workspace.pass_.skyline.over_frequency and not workspace.over_frequency
    what = words.in_time[0] if in_time else f"{words.many}{words.over_what}"
    if page.review.worst_first.on:
        what = page.review.worst_first.words()
    elif page.stack.isChecked():
        what = "all parts; a dot: with the lead, a ring: not"
    elif workspace.order == AUDIBLE:
        what = route.worth_hearing(route.current) or what
    pauses = f"pauses alone, +{hearing.pauses_db:.0f} dB (P) · " if hearing.pauses_db else ""
    return f"{pauses}{what} · {whose}"
