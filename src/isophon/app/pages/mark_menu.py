"""The menu at a place of the map, the skyline or the lens: what can be done with the mark or the time there."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QMenu

from isophon.app.pages.treatment_menu import treat_others
from isophon.core.marks import Mark


def mark_menu(page: Any, mark: Mark | None, seconds: float | None) -> QMenu:
    """A menu for ``mark``, which is selected, or for the time ``seconds`` of the part; ``page``: the work page."""
    menu, workspace = QMenu(page), page.workspace
    if mark is not None:
        if mark.id not in workspace.selected_marks:
            workspace.select_marks([mark.id], show=False)
        hand = workspace.mark.hand
        menu.addAction("Accept\tReturn", page.review.agree)
        menu.addAction("No longer as sung\tL" if hand.leave else "Leave as sung\tL", page.review.leave)
        menu.addAction("Back to the ceiling\tBackspace", workspace.commands.forget_hand).setEnabled(hand.any)
        menu.addAction("Treat others like it…\tQ", lambda: treat_others(page)).setEnabled(hand.decided)
        menu.addSeparator()
        menu.addAction("Note…\tShift+K", page.markers.write_note)
        menu.addAction("Loop it", page.hearing.loop_mark)
        menu.addAction("Zoom to it\tZ", page.views.zoom_mark)
        menu.addAction("Split at the playhead\t/", lambda: workspace.commands.split_mark(page.hearing.heard_at()))
        menu.addAction("Join the selected\t*", workspace.commands.join_marks).setEnabled(
            len(workspace.selected_marks) > 1
        )
        if workspace.pass_.hand.ending is not None:
            menu.addAction("Give back the ending\tG", workspace.commands.give_back_ending)
        menu.addAction("Delete\tDelete", workspace.commands.take_away)
        return menu
    if seconds is not None:
        menu.addAction("Play from here", lambda: page.hearing.play_from(seconds))
        menu.addAction("Name this place\tK", lambda: page.markers.name_at(seconds + workspace.offset))
    selected = workspace.selected_time is not None
    menu.addAction("Make a mark of the selection\tN", workspace.commands.draw_mark).setEnabled(selected)
    for words, sung in (("This is singing\tI", True), ("This is not singing\tShift+I", False)):
        menu.addAction(words, partial(workspace.commands.say_singing, sung)).setEnabled(selected)
    menu.addAction("Zoom to the selection\tZ", page.views.zoom_mark).setEnabled(selected)
    menu.addAction("Clear the selection\tEsc", lambda: workspace.select_time(None)).setEnabled(selected)
    menu.addAction("Show the whole song\tHome", lambda: workspace.viewport.glide_to(*workspace.song))
    return menu


def show_menu(page: Any, at: QPoint, mark: Mark | None, seconds: float | None) -> None:
    """Show it at a place of the screen."""
    mark_menu(page, mark, seconds).popup(at)
