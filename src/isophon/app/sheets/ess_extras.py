"""What the sheet of the esses has beside its sliders."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QWidget

from isophon.app.model.workspace import Workspace
from isophon.app.sheets.ess_pictures import PICTURES, Picture
from isophon.app.sheets.extras import AlikeExtras
from isophon.app.translation import tr, tr_all
from isophon.app.views.keyboard import Choice
from isophon.app.views.made import make_row
from isophon.core.session import edits
from isophon.core.session.model import Session

BY = {"ceiling": "by the ceiling", "rule": "by the rule", "both": "by both"}
STACK = {"own": "judged alone", "under": "under the lead’s", "drop": "gone where the lead has one"}
TURNS = {"band": "turns down its band", "above": "all above its lower end", "voice": "the whole voice"}
_SOUNDS = {
    "T’s and F’s as sung": {"t_too": False, "f_too": False},
    "F’s too": {"t_too": False, "f_too": True},
    "T’s too": {"t_too": True, "f_too": False},
    "T’s and F’s too": {"t_too": True, "f_too": True},
}
STARTS: dict[str, dict[str, Any]] = {
    "a low voice": {"rule_low_hz": 3_500.0, "rule_over_db": -7.0, "rule_ratio": 6.0, "rule_knee_db": 4.0,
                    "rule_attack_ms": 2.0, "rule_release_ms": 60.0, "rule_turns": "band"},
    "a high voice": {"rule_low_hz": 5_500.0, "rule_over_db": -8.0, "rule_ratio": 8.0, "rule_knee_db": 3.0,
                     "rule_attack_ms": 1.0, "rule_release_ms": 40.0, "rule_turns": "band"},
    "a bright voice": {"rule_low_hz": 6_500.0, "rule_over_db": -10.0, "rule_ratio": 12.0, "rule_knee_db": 1.0,
                       "rule_attack_ms": 0.5, "rule_release_ms": 25.0, "rule_turns": "above"},
    "slow and gentle": {"rule_ratio": 3.0, "rule_knee_db": 6.0, "rule_attack_ms": 5.0, "rule_release_ms": 150.0},
    "a fast limiter": {"rule_ratio": 100.0, "rule_knee_db": 0.0, "rule_attack_ms": 1.0, "rule_release_ms": 10.0},
}  # fmt: skip


class EssExtras(AlikeExtras):
    """What brings esses down, which sounds, and what the lead's esses make of a stack part's."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.by = self._choice("by", BY, "What brings esses down")
        self.stack = self._choice("stack", STACK, "Where an ess meets one of the lead’s")
        self.turns = self._choice("rule_turns", TURNS, "What the rule turns down")
        self.start = Choice()
        self.start.addItem(tr("start the rule from …"))
        for words in STARTS:
            self.start.addItem(tr(words))
        self.start.setAccessibleName(tr("A starting point for the rule"))
        self.start.setToolTip("Set the whole rule at once, to go on from there")
        self.start.activated.connect(self._start)
        self.sounds = Choice()
        for words, both in _SOUNDS.items():
            self.sounds.addItem(tr(words), both)
        self.sounds.setAccessibleName(tr("Whether T’s and F’s come down too"))
        self.sounds.setToolTip("Which sounds come down beside S and Sh, in the selected parts")
        self.sounds.activated.connect(self._set_both)
        self.altogether = QCheckBox(tr("completely"))
        self.altogether.setToolTip("Leave no soft trace of an ess that is taken away because the lead has one")
        self.altogether.clicked.connect(lambda on: workspace.settings.set_of_kind("ess", "altogether", on))
        self.picture = Choice()
        self.picture.addItems(tr_all(list(PICTURES)))
        self.picture.setAccessibleName(tr("Which picture is shown"))
        self.picture.setToolTip("What the picture below shows")
        for row, widgets in enumerate(
            ((self.by, self.stack), (self.turns, self.start), (self.sounds, self.altogether))
        ):
            line = make_row()
            for widget in widgets:
                line.addWidget(widget, 1)
            self.column.insertLayout(row, line)
        self.column.addWidget(self.picture)
        self._more = self._ruled = False
        self._shown: Picture | None = None

    def show_beside(self, picture: QWidget) -> None:
        """Choose what the picture shows."""
        self._shown = picture if isinstance(picture, Picture) else None
        self.picture.activated.connect(self._show_picture)

    def _show_picture(self) -> None:
        if self._shown is not None:
            self._shown.show_picture(list(PICTURES)[self.picture.currentIndex()])

    def _choice(self, name: str, words: dict[str, str], what: str) -> Choice:
        choice = Choice()
        for value, text in words.items():
            choice.addItem(tr(text), value)
        choice.setAccessibleName(tr(what))
        choice.setToolTip(f"{what}, in the selected parts")
        choice.activated.connect(lambda: self.workspace.settings.set_of_kind("ess", name, choice.currentData()))
        return choice

    def _start(self) -> None:
        chosen = self.start.currentIndex() - 1
        if chosen >= 0:
            words, values = list(STARTS.items())[chosen]
            self._set_all(f"rule for {words}", values)
        self.start.setCurrentIndex(0)

    def _set_both(self) -> None:
        words, values = list(_SOUNDS.items())[self.sounds.currentIndex()]
        self._set_all(words, values)

    def _set_all(self, words: str, values: dict) -> None:
        ids = self.workspace.selected_parts

        def change(session: Session) -> Session:
            for name, value in values.items():
                session = edits.set_setting(session, ids, "ess", name, value)
            return session

        self.workspace.edit(words, change)

    def show_more(self, on: bool) -> None:
        """The rarer choices, or not."""
        super().show_more(on)
        self._more = on
        self._show_choices()

    def _show_choices(self) -> None:
        ruled = self.workspace.part.ess.by != "ceiling"
        for widget in (self.turns, self.start):
            widget.setVisible(ruled)
        self.sounds.setVisible(self._more)
        self.altogether.setVisible(self._more or self.workspace.part.ess.stack == "drop")
        if ruled != self._ruled:  # the rule is turned while it is seen at work
            self._ruled = ruled
            self.picture.setCurrentIndex(int(ruled))
            self._show_picture()

    def show_part(self) -> None:
        """Show the selected part."""
        super().show_part()
        part = self.workspace.part
        for choice, name in ((self.by, "by"), (self.stack, "stack"), (self.turns, "rule_turns")):
            choice.setCurrentIndex(choice.findData(getattr(part.ess, name)))
        self.sounds.setCurrentIndex(2 * part.ess.t_too + part.ess.f_too)
        self.altogether.setChecked(part.ess.altogether)
        self.stack.setEnabled(part.role != "lead")
        self.altogether.setEnabled(part.role != "lead" and part.ess.stack == "drop")
        self._show_choices()
