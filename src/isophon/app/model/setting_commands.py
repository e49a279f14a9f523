"""Commands for settings: of the selected parts, or from one part to others."""

from __future__ import annotations

from typing import TYPE_CHECKING

from isophon.core.session import edits
from isophon.core.session.cards import Card, settings_by_kind
from isophon.core.session.model import Session

if TYPE_CHECKING:
    from isophon.app.model.workspace import Workspace


class SettingCommands:
    """Each command is one edit of the session; ``name``: of a setting of the pass that is open."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._moved: tuple[object, dict[str, float]] | None = None  # a gesture, and where parts stood before it

    def set_setting(self, name: str, value: float, gesture: object = None, same: bool = False) -> None:
        """Set one setting of the pass for all selected parts.

        A ceiling moves in each part by as much as in the first, unless the ``same`` is wanted in all; and it decides
        the selected marks.
        """
        workspace = self._workspace
        kind, value = workspace.pass_.kind, round(value, 2)
        if name not in [setting for setting, *_ in workspace.pass_.skyline.ceilings(workspace.part)]:
            self.set_of_kind(kind, name, value, gesture)
            return
        key = kind, name, gesture, workspace.selected_parts
        if self._moved is None or self._moved[0] != key or gesture is None:
            parts = [p for p in workspace.session.parts if p.id in workspace.selected_parts]
            self._moved = key, {p.id: float(getattr(p.settings(kind), name)) for p in parts}
        first, marks = workspace.part.id, [m.id for m in workspace.marks_selected()]
        before = self._moved[1]
        by = value - before[first]
        before = dict.fromkeys(before, before[first]) if same else before

        def move(session: Session) -> Session:
            session = edits.move_setting(session, before, kind, name, by)
            return edits.agree(session, first, marks) if marks else session

        workspace.edit(self._setting_words(kind, name, value), move, gesture)

    def set_of_kind(self, kind: str, name: str, value: float | bool | str, gesture: object = None) -> None:
        """Set one setting of a kind for all selected parts."""
        workspace = self._workspace
        ids = workspace.selected_parts
        words = self._setting_words(kind, name, value)
        workspace.edit(words, lambda s: edits.set_setting(s, ids, kind, name, value), gesture)

    def _setting_words(self, kind: str, name: str, value: float | bool | str) -> str:
        workspace = self._workspace
        return f"{workspace.pass_.words_of(kind, name)} {workspace.pass_.said(kind, name, value)} · {workspace.whom()}"

    def role_settings(self) -> None:
        """Back to the role's default for all selected parts."""
        workspace = self._workspace
        kinds, ids = workspace.pass_.kinds, workspace.selected_parts
        workspace.edit(f"role’s default · {workspace.whom()}", lambda s: edits.role_settings(s, ids, kinds))

    def give_settings(self, part_ids: list[str]) -> None:
        """Give the settings of the selected part to others."""
        workspace = self._workspace
        part = workspace.part
        card = Card(part.name, settings_by_kind(part))
        workspace.edit(f"settings from {part.name}", lambda s: edits.apply_card(s, part_ids, card))

    def toggle_done(self) -> None:
        """Call this pass done for the selected parts, or no longer."""
        workspace = self._workspace
        kind = workspace.pass_.kind
        on = not all(kind in workspace.session.part(p).done for p in workspace.selected_parts)
        words = f"{workspace.pass_.name} {'done' if on else 'not done yet'}"
        workspace.edit(f"{words} · {workspace.whom()}", lambda s: edits.set_done(s, workspace.selected_parts, kind, on))
