"""The fades of the selected mark, in its sheet."""

from __future__ import annotations

from PySide6.QtWidgets import QPushButton, QWidget

from isophon.app.model.keys import key_tip
from isophon.app.model.passes import Pass
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, named
from isophon.app.views.slider import Slider

_LONGEST_MS, _STEP_MS, _WORDS = 800.0, 5.0, 148
_TIPS = ("Fade at the start of the mark; also the left handle in the lens",
         "Fade at its end; also the right handle in the lens")  # fmt: skip


class MarkFades(QWidget):
    """How long the change of the selected mark takes to come and to go; a cut-off ending can be given back."""

    def __init__(self, workspace: Workspace, which: Pass) -> None:
        super().__init__()
        self.workspace, self.which = workspace, which
        self.sliders = tuple(Slider(words, 0, _LONGEST_MS, 20, lambda v: f"{v:.0f} ms", _STEP_MS, _WORDS)
                             for words in ("Fade in", "Fade out"))  # fmt: skip
        column = make_column(self, between=0, around=(0, 4, 0, 0))
        column.addWidget(Label(tr(f"The {which.words.one} selected"), objectName="soft"))
        for i, (slider, tip) in enumerate(zip(self.sliders, _TIPS, strict=True)):
            slider.setToolTip(tip)
            slider.moved.connect(lambda value, gesture, i=i: self._set(i, value, gesture))
            column.addWidget(slider)
        self.ending = named(QPushButton(tr("Give back the ending")), "plain")
        key_tip(self.ending, "Let the gap begin only where the word before it has died away ({ending})")
        self.ending.clicked.connect(workspace.commands.give_back_ending)
        column.addWidget(self.ending)
        self.ending.setVisible(which.hand.ending is not None)

    def show_mark(self) -> None:
        """Show the selected mark, or nothing where there is none."""
        mark = self.workspace.mark
        self.setVisible(mark is not None)
        if mark is None or self.which.hand.fades is None:
            return
        now, usual = self.workspace.commands.fades_of(mark), self.which.hand.fades(self.workspace.part)
        for slider, value, default in zip(self.sliders, now, usual, strict=True):
            slider.show_value(value, default)

    def _set(self, end: int, value: float, gesture: object) -> None:
        mark = self.workspace.mark
        if mark is not None:
            comes, goes = self.workspace.commands.fades_of(mark)
            self.workspace.commands.set_fades((value, goes) if end == 0 else (comes, value), gesture)
