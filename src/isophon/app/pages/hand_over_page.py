"""Hand over: what will be written, where, and the figures before and after."""

from __future__ import annotations

import math
import time
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QWidget,
)

from isophon.app.model.audition import WITHOUT
from isophon.app.model.remembered import HandOverSettings
from isophon.app.model.workspace import Workspace
from isophon.app.pages.proof_page import ProofPage
from isophon.app.pages.results_table import ResultsTable
from isophon.app.sheets import PASSES
from isophon.app.views.file_dialog import folder_to_use
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import Label
from isophon.app.views.made import grid, make_column, make_row, named
from isophon.core.audio.writing import check_target
from isophon.core.errors import IsophonError, OutputError
from isophon.core.handover import bundle
from isophon.core.handover.counts import kinds
from isophon.core.handover.proof import expected, page
from isophon.core.handover.report import check_report, write_report
from isophon.core.handover.target import Target, check_free, check_length, check_pattern, numbered, outputs
from isophon.core.reading import path_of
from isophon.core.session.model import Part
from isophon.core.session.notes import notes_of
from isophon.core.work.completing import needed
from isophon.core.work.messages import HandOver
from isophon.core.work.workers import Task

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
_NEAR_FULL_DBFS, _TELLING = -0.5, 0.05
_DEPTHS = {"24 bit": "24", "16 bit": "16", "32 bit float": "32f"}


class HandOverPage(QWidget):
    """Writes the cleaned stems with the same core as the command line, side by side on all cores."""

    troubled = Signal(str)
    part_asked = Signal(str)
    _answered = Signal(object, str, object)

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.workspace = workspace
        self._tasks: dict[Task, str] = {}  # the id of the part
        self._fractions: dict[Task, float] = {}
        self._written: dict[str, dict[str, Any]] = {}  # the report's rows, by the ids of parts
        self._target = Target(Path())
        self._made: Target | None = None  # what comes into its place as a whole
        self._asked: list[Part] = []
        self._closed = False
        self._began, self._doing = 0.0, ""
        self._answered.connect(self._answer)
        self.which = Choice()
        self.which.addItems(["all parts", "the selected parts"])
        self.folder = QLineEdit(self._proposed_folder())
        self.folder.setAccessibleName("Folder")
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._choose)
        self.format, self.bit_depth = Choice(), Choice()
        self.format.addItems(["wav", "flac", "aiff"])
        self.bit_depth.addItems(list(_DEPTHS))
        self.clip = Choice()
        for choice, name in ((self.which, "Parts"), (self.format, "Format"), (self.bit_depth, "Depth"),
                             (self.clip, "Where a stem would clip")):  # fmt: skip
            choice.setAccessibleName(name)
        for name, words in _CLIP.items():
            self.clip.addItem(words, name)
        self.clip.setToolTip("Cleaning moves peaks a little; one that comes over full scale would be cut off at 16 and "
                             "24 bit")  # fmt: skip
        self.removed = QCheckBox("also what was removed")
        self.labels = QCheckBox("also a list of times, as text for any editor’s label track")
        self.cues = QCheckBox("also the marks in WAV stems, as cue points")
        self.proof = QCheckBox("also the proof: a page that shows what was done (report.html)")
        self.together = QCheckBox("all stems begin and end with the song")
        self.as_loud = QCheckBox("each voice as loud as it was sung")
        self.as_loud.setToolTip("A gain on each stem, so that a balance that was found before stays; the report tells "
                                "it. Takes as long again")  # fmt: skip
        self.all_or_nothing = QCheckBox("all or nothing: a new folder that appears once everything is in it")
        self.name = QLineEdit(placeholderText="as the recording")
        self.name.setToolTip("A pattern for the names: {part}, {role}, {song} and {number}; empty: as the recording")
        self.name.setAccessibleName("Pattern of names")
        self.look = QPushButton("Look at the proof")
        self.look.setToolTip("What the proof will show, as far as it is known before anything is written")
        self.look.clicked.connect(self.show_proof)
        self.force = QCheckBox("overwrite existing files")
        self.aside = QCheckBox()
        self.will = Label(wordWrap=True)
        self.write = named(QPushButton("Hand over"), "main")
        self.write.clicked.connect(self.start)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(lambda: workspace.pool.workers.cancel(list(self._tasks)))
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self.outcome = Label("", wordWrap=True)
        self.table = ResultsTable()
        self.table.part_asked.connect(self.part_asked)
        self._lay_out(choose)
        for widget in (self.which, self.format, self.bit_depth, self.clip):
            widget.currentIndexChanged.connect(self.show_will)
        for box in (self.removed, self.labels, self.aside, self.proof, self.all_or_nothing):
            box.toggled.connect(self.show_will)
        self.folder.textChanged.connect(self.show_will)
        self.name.textChanged.connect(self.show_will)
        workspace.session_changed.connect(self.show_will)
        workspace.take_changed.connect(self.show_will)
        self._busy(False)

    def _lay_out(self, choose: QPushButton) -> None:
        scroll = QScrollArea(self, widgetResizable=True)
        page = named(QWidget(scroll.viewport()), "page")
        inner = QWidget(page)
        inner.setMaximumWidth(1080)
        column = make_column(inner, between=12)
        fields = grid(None, 16, 8)
        folder = make_row()
        folder.addWidget(self.folder, 1)
        folder.addWidget(choose)
        fields.addWidget(Label("Folder"), 0, 0)
        fields.addLayout(folder, 0, 1)
        kind = make_row()
        kind.addWidget(self.which)
        kind.addWidget(self.format)
        kind.addWidget(self.bit_depth)
        kind.addWidget(self.clip)
        kind.addStretch()
        fields.addWidget(Label("What"), 1, 0)
        fields.addLayout(kind, 1, 1)
        fields.addWidget(Label("Names"), 2, 0)
        fields.addWidget(self.name, 2, 1)
        boxes = grid(None, 24, 8)
        ticked = (self.removed, self.labels, self.cues, self.proof, self.together, self.as_loud,
                  self.all_or_nothing, self.force, self.aside)  # fmt: skip
        for i, box in enumerate(ticked):
            boxes.addWidget(box, i // 2, i % 2)
        boxes.setColumnStretch(1, 1)
        fields.addLayout(boxes, 3, 1)
        fields.addWidget(Label("Will be written"), 7, 0, Qt.AlignmentFlag.AlignTop)
        fields.addWidget(self.will, 7, 1)
        buttons = make_row()
        buttons.addWidget(self.write)
        buttons.addWidget(self.look)
        buttons.addWidget(self.bar, 1)
        buttons.addWidget(self.cancel)
        buttons.addStretch()
        column.addWidget(Label("Hand over", objectName="title"))
        about = (
            "Stems keep their length, channels and place, and their rate unless Lay out says another. "
            "The recordings are never written to."
        )
        column.addWidget(Label(about, objectName="soft"))
        column.addLayout(fields)
        column.addLayout(buttons)
        column.addWidget(self.outcome)
        column.addWidget(self.table)
        column.addStretch()
        row = make_row(page, around=(64, 24, 64, 16))
        row.addWidget(inner, 1)
        row.addStretch()
        scroll.setWidget(page)
        outer = make_column(self)
        outer.addWidget(scroll)

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

    def _numbered(self, part: Part, target: Target) -> Target:
        """The target with the number of a part's row in Lay out."""
        ids = [one.id for one in self.workspace.session.parts]
        return numbered(target, ids.index(part.id) + 1, len(ids))

    def show_proof(self) -> None:
        """Show the proof as far as it can be told now."""
        session, without = self.workspace.session, self.target().without
        rows = [expected(part, self.workspace.pool.take(part.source), without, notes_of(session, part))
                for part in self.parts() if part.found]  # fmt: skip
        ProofPage(page(rows, session.name), self).show()

    def inputs(self) -> list[Path]:
        """The files that nothing may be written over."""
        saved_as = self.workspace.keeper.saved_as
        return [path_of(item.source.path) for item in self.workspace.session.items] + ([saved_as] if saved_as else [])

    def parts(self) -> list[Part]:
        """The parts that will be handed over."""
        parts, in_hand = self.workspace.session.parts, self.workspace.selected_parts
        return [p for p in parts if self.which.currentIndex() == 0 or p.id in in_hand]

    def show_will(self) -> None:
        """Say what will be written, once it is seen."""
        if not self.isVisible():
            return
        self._show_aside()
        parts, target = self.parts(), self.target()
        try:
            check_pattern(target.name)
            for part in parts:
                check_length(part, target)
        except IsophonError as error:
            self.will.setText(str(error))
            self.write.setEnabled(False)
            return
        names = [path.name for part in parts for path in outputs(part, self._numbered(part, target))]
        shown = names if len(names) <= 6 else [*names[:5], f"and {len(names) - 5} more"]
        rows = [kinds(part, target.without) for part in parts]
        counts = [f"{sum(r[w.kind]['changed'] for r in rows)} of {sum(r[w.kind]['count'] for r in rows)} {w.words.many}"
                for w in PASSES if w.kind not in target.without]  # fmt: skip
        figures = {part.name: self.workspace.pool.take(part.source).figures for part in parts}
        full = [name for name, known in figures.items() if known and known.peak_dbfs > _NEAR_FULL_DBFS]
        warn = f"\nReaching full scale as sung, so that the stem may clip: {', '.join(full)}" if full else ""
        reports = ["report.json", "report.html"] if target.proof else ["report.json"]
        unknown = [part.name for part in parts if not part.found]
        missing = f"\nMarks still to be found, before anything is written: {', '.join(unknown)}" if unknown else ""
        self.will.setText(
            "   ·   ".join([*shown, *reports]) + f"\nChanged: {', '.join(counts)}" + missing
            + (warn if target.depth != "32f" else "")
            if parts else "There is no part to hand over yet."
        )  # fmt: skip
        self.clip.setEnabled(target.depth != "32f")
        self.write.setEnabled(bool(parts) and not self._tasks)

    def _show_aside(self) -> None:
        """Ask whether what is switched off for listening is to be left out; it never is by itself."""
        how, which = self.workspace.audition.aside
        self.aside.setVisible(which is not None)
        if which is None:
            self.aside.setChecked(False)
            return
        self.aside.setText(f"leave out {which.name}, which is switched off for listening" if how == WITHOUT
                           else f"leave out all but {which.name}, as for listening")  # fmt: skip

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.show_will()

    def start(self) -> None:
        """Write, in the background; an error of one part stops no other."""
        self._target = target = self.target()
        self._made = None
        self.outcome.setText("")
        try:
            if not self.folder.text().strip():
                raise OutputError("No folder is named; choose where to hand over first")
            check_target(target.fmt, target.depth)
            if target.clip == "float" and target.fmt == "flac":
                raise OutputError("FLAC holds no 32-bit float samples; turn down what would clip, or choose WAV")
            if self.all_or_nothing.isChecked():
                self._made = bundle.begin(target)
                target = self._made
            check_report(target, self.inputs())
            taken: dict[Path, str] = {}
            for part in self.parts():
                for output in check_free(part, self._numbered(part, target), self.inputs()):
                    if output in taken:
                        raise OutputError(
                            f"{part.name} and {taken[output]} would both write {output.name}; rename one of the parts, "
                            "or hand them over to different folders"
                        )
                    taken[output] = part.name
        except IsophonError as error:
            self._give_up()
            self.troubled.emit(str(error))
            return
        self._asked, self._written = self.parts(), {}
        complete = all(part.found for part in self._asked)
        self._doing = "Writing the stems" if complete else "Finding what is missing and writing the stems"
        self.table.begin(self._asked)
        for part in self._asked:
            session = needed(self.workspace.session, part)
            request = HandOver(session=session, part=part.id, target=self._numbered(part, target))
            task = Task(request, lambda *_: None)
            task.on_answer = partial(self._pass_on, task)
            self._tasks[task], self._fractions[task] = part.id, 0.0
        self._began = time.monotonic()
        self._busy(True)
        for task in list(self._tasks):
            self.workspace.pool.workers.submit(task)

    def _pass_on(self, task: Task, kind: str, value: Any) -> None:
        """From a worker's thread to the window's, as long as there is somebody to be told."""
        if not self._closed:
            self._answered.emit(task, kind, value)

    def _answer(self, task: Task, kind: str, value: Any) -> None:
        if task not in self._tasks:
            return
        self._fractions[task] = 1.0 if kind != "progress" else value
        done = sum(self._fractions.values()) / len(self._fractions)
        self.bar.setValue(round(1000 * done))
        if kind == "progress":
            if done > _TELLING:
                left = (time.monotonic() - self._began) * (1 - done) / done
                self.outcome.setText(f"{self._doing}, about {math.ceil(left)} s left")
            return
        part_id = self._tasks.pop(task)
        if kind == "done":
            self._written[part_id] = value["row"]
            self.table.add(part_id, value["row"], self._target.depth)
        else:
            self.table.add_line(part_id, value if kind == "failed" else "cancelled; nothing half-written was left")
        if not self._tasks:
            self._finish()

    def _finish(self) -> None:
        self._fractions = {}
        words = "Nothing was written."
        made, complete = self._made or self._target, self._made is None or len(self._written) == len(self._asked)
        if self._written and complete:
            rows = [self._written[part.id] for part in self._asked if part.id in self._written]
            words = f"{len(rows)} written to {self._target.folder}, read back and compared"
            try:
                write_report(rows, made.folder, self.workspace.session.name)
                if self._made is not None:
                    bundle.complete(self._made, self._target)
                    self._made = None
            except IsophonError as error:
                self.troubled.emit(str(error))
                words = "Nothing was written." if self._made is not None else words
        self._give_up()
        self._busy(False)
        self.outcome.setText(words)

    def _give_up(self) -> None:
        """Take away what was to come into place as a whole and did not."""
        if self._made is not None:
            bundle.give_up(self._made)
            self._made = None

    def shut(self) -> None:
        """Stop writing; nothing half-written is left."""
        self._closed = True
        self.workspace.pool.workers.cancel(list(self._tasks))
        self._give_up()

    def _proposed_folder(self) -> str:
        items = self.workspace.session.items
        return str((path_of(items[0].source.path).parent if items else Path.home()) / "cleaned")

    def _busy(self, on: bool) -> None:
        self.write.setEnabled(not on and bool(self.workspace.session.parts))
        self.bar.setVisible(on)
        self.cancel.setVisible(on)
        self.bar.setValue(0)
        if on:
            self.outcome.setText(self._doing)

    def _choose(self) -> None:
        folder = folder_to_use(self, "Where to hand over", Path(self.folder.text()))
        if folder is not None:
            self.folder.setText(str(folder))
