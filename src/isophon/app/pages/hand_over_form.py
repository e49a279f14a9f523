"""How stems are handed over: where to, in which format, under which names, and what goes with them."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QLineEdit, QPushButton, QWidget

from isophon.app.model.audition import WITHOUT
from isophon.app.model.preferences import preferences
from isophon.app.model.remembered import HandOverSettings
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr, tr_all
from isophon.app.views.file_dialog import folder_to_use
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import Label
from isophon.app.views.made import grid, make_row
from isophon.core.handover.target import Target
from isophon.core.reading import path_of

_CLIP = {
    "trim": "if a stem would clip: turn it down as a whole",
    "float": "if a stem would clip: write it as 32-bit float",
    "refuse": "if a stem would clip: do not write it",
}
_TICKED = (
    "removed",
    "labels",
    "cues",
    "proof",
    "together",
    "as_loud",
    "all_or_nothing",
)  # remembered; never "write over"
_OLDER = {"all_or_nothing": "whole"}  # as it was remembered before
_LONGEST_PATTERN = 200
_DEPTHS = {"24 bit": "24", "16 bit": "16", "32 bit float": "32f"}


class HandOverForm(QObject):
    """The controls of the page; ``changed``: what will be written may be another."""

    changed = Signal()

    def __init__(self, workspace: Workspace, page: QWidget) -> None:
        super().__init__(page)
        self.workspace, self._page = workspace, page
        self.which = Choice()
        self.which.addItems(tr_all(["all parts", "the selected parts"]))
        self.folder = QLineEdit(self._proposed_folder())
        self.folder.setAccessibleName(tr("Folder"))
        self._browse = QPushButton(tr("Choose…"))
        self._browse.clicked.connect(self._choose)
        self.format, self.bit_depth = Choice(), Choice()
        self.format.addItems(["wav", "flac", "aiff"])
        self.bit_depth.addItems(list(_DEPTHS))
        self.clip = Choice()
        for choice, name in ((self.which, "Parts"), (self.format, "Format"), (self.bit_depth, "Depth"),
                             (self.clip, "Where a stem would clip")):  # fmt: skip
            choice.setAccessibleName(tr(name))
        self.which.setToolTip("Which parts are handed over")
        self.format.setToolTip("The kind of file: WAV, FLAC or AIFF")
        self.bit_depth.setToolTip("The bit depth of the stems; 32-bit float cannot clip")
        self.folder.setToolTip("The folder to which stems go; it is made where it is not there")
        self._browse.setToolTip("Choose that folder")
        for name, words in _CLIP.items():
            self.clip.addItem(tr(words), name)
        self.clip.setToolTip("Cleaning moves peaks a little; one that comes over full scale would be cut off at 16 and "
                             "24 bit")  # fmt: skip
        self.removed = QCheckBox(tr("also what was removed"))
        self.labels = QCheckBox(tr("also a list of times, as text for any editor’s label track"))
        self.cues = QCheckBox(tr("also the marks in WAV stems, as cue points"))
        self.proof = QCheckBox(tr("also the proof: a page that shows what was done (report.html)"))
        self.together = QCheckBox(tr("all stems begin and end with the song"))
        self.as_loud = QCheckBox(tr("each voice as loud as it was sung"))
        self.as_loud.setToolTip("A gain on each stem, so that a balance that was found before stays; the report tells "
                                "it. Takes as long again")  # fmt: skip
        self.all_or_nothing = QCheckBox(tr("all or nothing: a new folder that appears once everything is in it"))
        for box, words in (
            (self.removed, "A second file of each part: as sung less cleaned"),
            (self.labels, "Start, end and words of each mark, one a line, beside the stem"),
            (self.cues, "Cue points with the names of the marks, inside of the WAV file"),
            (self.proof, "One page to send along: pictures before and after, and all figures"),
            (self.together, "Silence is added at both ends, so that all stems line up from the first frame on"),
            (self.all_or_nothing, "Where one stem fails, none is left; else each is written by itself"),
        ):
            box.setToolTip(words)
        self.name = QLineEdit(placeholderText=tr("as the recording"))
        self.name.setToolTip("A pattern for the names: {part}, {role}, {song} and {number}; empty: as the recording")
        self.name.setAccessibleName(tr("Pattern of names"))
        self.force = QCheckBox(tr("overwrite existing files"))
        self.force.setToolTip("Else a stem whose file is there already is refused; recordings are never written to")
        self.aside = QCheckBox()
        for widget in (self.which, self.format, self.bit_depth, self.clip):
            widget.currentIndexChanged.connect(self.changed)
        for box in (self.removed, self.labels, self.aside, self.proof, self.all_or_nothing):
            box.toggled.connect(self.changed)
        self.folder.textChanged.connect(self.changed)
        self.name.textChanged.connect(self.changed)

    def fields(self) -> QGridLayout:
        """The controls in rows with their names."""
        fields = grid(None, 16, 8)
        folder = make_row()
        folder.addWidget(self.folder, 1)
        folder.addWidget(self._browse)
        fields.addWidget(Label(tr("Folder")), 0, 0)
        fields.addLayout(folder, 0, 1)
        kind = make_row()
        kind.addWidget(self.which)
        kind.addWidget(self.format)
        kind.addWidget(self.bit_depth)
        kind.addWidget(self.clip)
        kind.addStretch()
        fields.addWidget(Label(tr("What")), 1, 0)
        fields.addLayout(kind, 1, 1)
        fields.addWidget(Label(tr("Names")), 2, 0)
        fields.addWidget(self.name, 2, 1)
        boxes = grid(None, 24, 8)
        ticked = (self.removed, self.labels, self.cues, self.proof, self.together, self.as_loud,
                  self.all_or_nothing, self.force, self.aside)  # fmt: skip
        for i, box in enumerate(ticked):
            boxes.addWidget(box, i // 2, i % 2)
        boxes.setColumnStretch(1, 1)
        fields.addLayout(boxes, 3, 1)
        return fields

    def chosen(self) -> HandOverSettings:
        """How it is handed over, to be remembered."""
        ticked = tuple(name for name in _TICKED if getattr(self, name).isChecked())
        return HandOverSettings(self.name.text(), self.bit_depth.currentText(), self.format.currentText(),
                                self.clip.currentData(), ticked)  # fmt: skip

    def restore(self, settings: HandOverSettings) -> None:
        """Be as it was remembered."""
        self.name.setText(settings.name[:_LONGEST_PATTERN])
        for choice, index in ((self.bit_depth, self.bit_depth.findText(settings.depth)),
                              (self.format, self.format.findText(settings.format)),
                              (self.clip, self.clip.findData(settings.clip))):  # fmt: skip
            choice.setCurrentIndex(max(0, index))
        for name in _TICKED:
            getattr(self, name).setChecked(name in settings.ticked or _OLDER.get(name) in settings.ticked)

    def target(self) -> Target:
        """What was chosen."""
        return Target(
            Path(self.folder.text()).expanduser(),
            self.format.currentText(),
            _DEPTHS[self.bit_depth.currentText()],
            self.force.isChecked(),
            self.removed.isChecked(),
            self.labels.isChecked(),
            self.clip.currentData(),
            self.workspace.audition.unheard if self.aside.isChecked() else (),
            self.cues.isChecked(),
            self.proof.isChecked(),
            self.name.text().strip(),
            self.workspace.session.name,
            self.workspace.session.span if self.together.isChecked() else None,
            self.as_loud.isChecked(),
        )

    def show_aside(self) -> None:
        """Ask whether what is switched off for listening is to be left out; it never is by itself."""
        how, which = self.workspace.audition.aside
        self.aside.setVisible(which is not None)
        if which is None:
            self.aside.setChecked(False)
            return
        self.aside.setText(tr(f"leave out {which.name}, which is switched off for listening" if how == WITHOUT
                           else f"leave out all but {which.name}, as for listening"))  # fmt: skip

    def _proposed_folder(self) -> str:
        if preferences().stems:
            return preferences().stems
        items = self.workspace.session.items
        return str((path_of(items[0].source.path).parent if items else Path.home()) / "cleaned")

    def _choose(self) -> None:
        folder = folder_to_use(self._page, "Where to hand over", Path(self.folder.text()))
        if folder is not None:
            self.folder.setText(str(folder))
