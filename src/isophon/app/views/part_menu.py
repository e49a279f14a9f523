"""The menu of a part: its settings for others, what is done, what is selected."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QMenu, QWidget

from isophon.app import theme
from isophon.app.model.keys import keyed
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr


def part_menu(workspace: Workspace, parent: QWidget) -> QMenu:
    """What can be done with the selected parts."""
    menu, part = QMenu(parent), workspace.part
    others = [p.id for p in workspace.session.parts if p.id != part.id]
    alike = [p.id for p in workspace.session.parts if p.id != part.id and p.role == part.role]
    in_hand = [i for i in workspace.selected_parts if i != part.id]
    for words, ids in (
        (f"Settings from {part.name} to the other selected parts", in_hand),
        (f"Settings from {part.name} to every {theme.ROLE_WORDS[part.role]}", alike),
        (f"Settings from {part.name} to all parts", others),
    ):
        menu.addAction(tr(words), partial(workspace.settings.give_settings, ids)).setEnabled(bool(ids))
    menu.addAction(tr("Back to the role’s default"), workspace.settings.role_settings)
    menu.addSeparator()
    menu.addAction(tr(keyed("This pass is done, or no longer\t{done}")), workspace.settings.toggle_done)
    menu.addAction(
        tr(keyed("Select all parts\t{all_parts}")),
        lambda: workspace.select_parts([p.id for p in workspace.session.parts]),
    )
    return menu
