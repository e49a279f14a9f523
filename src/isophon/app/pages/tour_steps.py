"""The steps of the guided tour: what each tells, what it shows, and what it does in the session that is open."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from PySide6.QtWidgets import QWidget

from isophon.app.pages.route import HAND_OVER, STATIONS
from isophon.app.pages.work_views import WorkViews
from isophon.app.sheets import FIRST
from isophon.core.marks import Mark
from isophon.core.session.model import Part

_CLOSE_S, _LOWER_DB, _MORE_DB = 4.0, 3.0, -2.0


class Step(NamedTuple):
    """One step: its title, what it says, what its button says, what it points at, and what it does.

    ``do(page)``: with the work page; everything that it changes is a step that can be undone.
    """

    title: str
    words: str
    does: str
    points_at: Callable[[WorkViews], QWidget]
    do: Callable[[Any], None]


def part_of_tour(page: Any) -> Part | None:
    """The part that the tour is about: the lead, else the first part; None where there is none."""
    session = page.workspace.session
    return session.lead or next(iter(session.parts), None)


def _highest(page: Any) -> Mark | None:
    """The mark that stands out most of those that come down."""
    over = [mark for mark, change in page.workspace.part.changed(FIRST.kind) if not mark.hand.decided]
    return max(over, key=lambda mark: mark.standout_db, default=None)


def _show_map(page: Any) -> None:
    part = part_of_tour(page)
    if part is not None:
        page.workspace.select_part(part.id)
    page.open_station(STATIONS.index(FIRST.name))
    mark = _highest(page)
    middle = sum(mark.span) / 2 if mark else _CLOSE_S
    page.workspace.viewport.show(max(0.0, middle - _CLOSE_S), max(0.0, middle - _CLOSE_S) + 2 * _CLOSE_S)


def _loop_highest(page: Any) -> None:
    mark = _highest(page)
    page.workspace.select_marks([mark.id] if mark else [])
    page.hearing.set_compare("as sung")
    page.hearing.loop_mark()


def _lower_ceiling(page: Any) -> None:
    page.workspace.settings.set_setting("ceiling_db", page.workspace.part.settings(FIRST.kind).ceiling_db - _LOWER_DB)


def _accept_next(page: Any) -> None:
    """The one that was changed by hand is decided already."""
    mark = _highest(page)
    page.workspace.select_marks([mark.id] if mark else [])
    page.review.agree()


def _undo_all(page: Any) -> None:
    while page.workspace.keeper.history.at > page.tour.began_at:
        page.review.undo()


def _hand_over(page: Any) -> None:
    page.hearing.player.stop()
    page.open_station(HAND_OVER)


STEPS = (
    Step(
        "The map",
        "One voice, from low to high. Ink is what stays, red is what the cleaning removes.",
        f"Show the lead’s {FIRST.words.many}",
        lambda views: views.trace,
        _show_map,
    ),
    Step(
        "The skyline",
        f"One bar {FIRST.an}, as high as it stands out of the voice around it. The ceiling brings it down.",
        "Play the highest one, as sung",
        lambda views: views.skyline,
        _loop_highest,
    ),
    Step(
        "As sung, cleaned",
        "Compare while it plays, at the same loudness. {as_sung_held} held plays as sung as long as you hold it.",
        "Play it cleaned",
        lambda views: views.transport,
        lambda page: page.hearing.set_compare("cleaned"),
    ),
    Step(
        "The ceiling",
        f"Drag it, or set it in the sheet. All {FIRST.words.many} over it follow at once, and so does what you hear.",
        "Lower it by 3 dB",
        lambda views: views.skyline,
        _lower_ceiling,
    ),
    Step(
        "By hand",
        "Any mark can be changed by itself: drag the top of its bar, or use the arrow keys. A flag says so.",
        "2 dB more for this one",
        lambda views: views.lens,
        lambda page: page.workspace.commands.change_more(_MORE_DB),
    ),
    Step(
        "Decide",
        "{agree} accepts a mark and goes on to the next undecided one; {leave} leaves it as sung.",
        "Accept the next one",
        lambda views: views.title,
        _accept_next,
    ),
    Step(
        "Nothing is lost",
        "Every step can be undone, also tomorrow. Recordings are never written to.",
        "Undo all since the tour began",
        lambda views: views.title.undo,
        _undo_all,
    ),
    Step(
        "Hand over",
        "Clean stems as files, as long as the recordings, with a report of what was done.",
        "Open Hand over",
        lambda views: views.title,
        _hand_over,
    ),
)
