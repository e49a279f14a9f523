"""The menu that gives the treatment of the selected mark to others; what would be touched is outlined meanwhile."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtWidgets import QMenu, QWidget

from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.core.marks import Mark
from isophon.core.session.treating import Target, like_it, same_place, treated_like

Targets = tuple[Target, ...]


def treatment_menu(workspace: Workspace, parent: QWidget) -> QMenu | None:
    """The menu; None, with a word why, where nothing was decided that could be given."""
    mark = workspace.mark
    if mark is None or not mark.hand.decided:
        workspace.notice.emit("Select a mark and decide it first; then others can be treated like it.")
        return None
    menu = QMenu(parent)
    for words, targets in choices(workspace, mark):
        action = menu.addAction(tr(words))
        action.setEnabled(bool(targets))
        action.hovered.connect(partial(workspace.outline, targets))
        action.triggered.connect(partial(give, workspace, mark, targets))
    menu.aboutToHide.connect(workspace.outline)
    first = next((action for action in menu.actions() if action.isEnabled()), None)
    if first is not None:
        menu.setActiveAction(first)
    return menu


def choices(workspace: Workspace, mark: Mark) -> list[tuple[str, Targets]]:
    """To which others the treatment of a mark can go, in words."""
    part, surveyed = workspace.part, workspace.take.surveyed
    like = () if surveyed is None else like_it(surveyed.survey, part, mark)
    parts = [p.id for p in workspace.session.parts]
    there = same_place(workspace.session, part.id, mark, parts)
    held = tuple((part.id, other.id) for other in workspace.marks_selected() if other.id != mark.id)
    rows = (("&Like it in this part", like), ("At this &place in other parts", there), ("The &selected ones", held))
    return [(f"{words}: {len(targets)}", targets) for words, targets in rows]


def give(workspace: Workspace, mark: Mark, targets: Targets) -> None:
    """Treat others like a mark, in one step; say how many."""
    workspace.edit(f"{len(targets)} treated like · {workspace.where()}", lambda s: treated_like(s, mark, targets))
    names = workspace.pass_.words.one if len(targets) == 1 else workspace.pass_.words.many
    workspace.notice.emit(f"{len(targets)} {names} are treated like this one.")


def treat_others(page: Any) -> None:
    """Open the menu at the lens; ``page``: the work page."""
    menu = treatment_menu(page.workspace, page)
    if menu is not None:
        menu.popup(page.views.lens.mapToGlobal(page.views.lens.good.geometry().bottomLeft()))
