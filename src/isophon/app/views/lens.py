"""The lens: the selected mark close up, with its numbers, and what a hand can decide about it."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.keys import key_tip
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.keyboard import enable
from isophon.app.views.labels import ElidedLabel, Label
from isophon.app.views.lens_pictures import LensPictures
from isophon.app.views.made import make_column, make_row, switch
from isophon.app.views.mark_words import mark_words
from isophon.app.views.slider import Slider
from isophon.core.marks import Mark
from isophon.core.session import edits

_LINES, _FOLD = 3, 20


class Lens(QWidget):
    """The pictures with their numbers, the blend, and what a hand can decide."""

    agreed = Signal()
    left = Signal()
    described = Signal(str)

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.head, self.numbers = ElidedLabel("head"), Label("", objectName="soft", wordWrap=True)
        self.numbers.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop)
        self.numbers.ensurePolished()  # its own type counts
        self.numbers.setFixedHeight(_LINES * self.numbers.fontMetrics().lineSpacing() + 2)
        self.pictures = LensPictures(workspace)
        self.warning = Label("", objectName="soft", wordWrap=True)
        self.blend = Slider("Blend", 0, 100, 100, lambda v: f"{v:.0f} %", spare=24, number_width=58)
        self.blend.setToolTip("How much of the change is applied")
        self.blend.moved.connect(self._blend)
        self.good = QPushButton(tr("Accept"))
        key_tip(self.good, "Accept what is done here and go on to the next undecided mark ({agree})")
        self.good.clicked.connect(self.agreed)
        self.leave = switch(tr("Leave as sung"))
        key_tip(self.leave, "Leave as sung ({leave})")
        self.leave.clicked.connect(self.left)
        self.forget = QPushButton(tr("Back to the ceiling"))
        key_tip(self.forget, "Forget what was set by hand ({forget})")
        self.forget.clicked.connect(workspace.commands.forget_hand)
        buttons = make_row(between=4)
        for button in (self.good, self.leave, self.forget):
            button.setObjectName("small")
            buttons.addWidget(button, 1)
        head = make_row()
        head.addWidget(self.head, 1)
        head.addSpacing(theme.u(_FOLD))
        layout = make_column(self, around=(12, 8, 8, 4))
        layout.addLayout(head)
        layout.addWidget(self.numbers)
        layout.addWidget(self.pictures, 1)
        layout.addWidget(self.warning)
        layout.addLayout(buttons)
        layout.addWidget(self.blend)
        workspace.part_changed.connect(self._show)
        workspace.selection_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        mark, marks = self.workspace.mark, self.workspace.marks_selected()
        for widget in (self.good, self.leave, self.blend, *(() if mark else (self.forget,))):
            enable(widget, mark is not None)
        self.warning.setText(tr(self._warning(mark)))
        self.warning.setVisible(bool(self.warning.text()))
        if mark is None:
            self.head.setText(tr("Lens"))
            self.numbers.setText("")
            self.described.emit("No mark is selected")
            return
        which, all_marks = self.workspace.pass_, self.workspace.marks
        place = all_marks.index(mark) + 1 if mark in all_marks else 0
        one = f"{which.words.one.capitalize()} {place} of {len(all_marks)}"
        self.head.setText(tr(one if len(marks) == 1 else f"{len(marks)} {which.words.many} selected"))
        self.numbers.setText(tr(mark_words(self.workspace, mark)))
        self.described.emit(f"{self.head.text()}: {self.numbers.text()}")
        self.leave.setChecked(all(m.hand.leave for m in marks))
        enable(self.forget, any(m.hand.any for m in marks))
        self.blend.setVisible(which.lens.blends)
        self.blend.show_value(100 * (1.0 if mark.hand.blend is None else mark.hand.blend))

    def _warning(self, mark: Mark | None) -> str:
        """A warning about the selected mark; empty for none."""
        if mark is None:
            return ""
        which = self.workspace.pass_
        if mark.confidence < getattr(self.workspace.part.settings(mark.kind), "sure", 0.0) and not mark.hand.any:
            return f"Not sure enough to be {which.an}: left unless a hand decides."
        return which.words.warning(self.workspace, mark)

    def _blend(self, value: float, gesture: object) -> None:
        self.workspace.edit(
            f"blend · {self.workspace.part.name}",
            lambda s: edits.set_blend(s, self.workspace.part.id, self.workspace.selected_marks, value / 100),
            gesture,
        )
