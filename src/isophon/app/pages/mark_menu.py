"""The menu at a place of the map, the skyline or the lens: what can be done with the mark or the time there."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QMenu

from isophon.app.model.keys import keyed
from isophon.app.pages.treatment_menu import treat_others
from isophon.app.translation import tr
from isophon.core.marks import Mark


def mark_menu(page: Any, mark: Mark | None, seconds: float | None) -> QMenu:
    """A menu for ``mark``, which is selected, or for the time ``seconds`` of the part; ``page``: the work page."""
    menu, workspace = QMenu(page), page.workspace
    if mark is not None:
        if mark.id not in workspace.selected_marks:
            workspace.select_marks([mark.id], show=False)
        hand = workspace.mark.hand
        menu.addAction(tr(keyed("Accept\t{agree}")), page.review.agree)
        menu.addAction(
            tr(keyed("No longer as sung\t{leave}") if hand.leave else keyed("Leave as sung\t{leave}")),
            page.review.leave,
        )
        menu.addAction(tr(keyed("Back to the ceiling\t{forget}")), workspace.commands.forget_hand).setEnabled(hand.any)
        menu.addAction(tr(keyed("Treat others like it…\t{treat}")), lambda: treat_others(page)).setEnabled(hand.decided)
        menu.addSeparator()
        menu.addAction(tr(keyed("Note…\t{note}")), page.markers.write_note)
        menu.addAction(tr("Loop it"), page.hearing.loop_mark)
        menu.addAction(tr(keyed("Zoom to it\t{zoom_mark}")), page.views.zoom_mark)
        menu.addAction(tr("Split at the playhead\t/"), lambda: workspace.commands.split_mark(page.hearing.heard_at()))
        menu.addAction(tr("Join the selected\t*"), workspace.commands.join_marks).setEnabled(
            len(workspace.selected_marks) > 1
        )
        if workspace.pass_.hand.ending is not None:
            menu.addAction(tr(keyed("Give back the ending\t{ending}")), workspace.commands.give_back_ending)
        menu.addAction(tr(keyed("Delete\t{take_away}")), workspace.commands.take_away)
        return menu
    if seconds is not None:
        menu.addAction(tr("Play from here"), lambda: page.hearing.play_from(seconds))
        menu.addAction(tr(keyed("Name this place\t{marker}")), lambda: page.markers.name_at(seconds + workspace.offset))
    selected = workspace.selected_time is not None
    menu.addAction(tr(keyed("Make a mark of the selection\t{draw}")), workspace.commands.draw_mark).setEnabled(selected)
    for words, sung in (
        (keyed("This is singing\t{singing}"), True),
        (keyed("This is not singing\t{not_singing}"), False),
    ):
        menu.addAction(tr(words), partial(workspace.commands.say_singing, sung)).setEnabled(selected)
    menu.addAction(tr(keyed("Zoom to the selection\t{zoom_mark}")), page.views.zoom_mark).setEnabled(selected)
    menu.addAction(tr(keyed("Clear the selection\t{give_up}")), lambda: workspace.select_time(None)).setEnabled(
        selected
    )
    menu.addAction(tr(keyed("Show the whole song\t{whole}")), lambda: workspace.viewport.glide_to(*workspace.song))
    return menu


def show_menu(page: Any, at: QPoint, mark: Mark | None, seconds: float | None) -> None:
    """Show it at a place of the screen."""
    mark_menu(page, mark, seconds).popup(at)
