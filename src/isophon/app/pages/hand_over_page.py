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
    QProgressBar,
    QPushButton,
    QScrollArea,
    QWidget,
)

from isophon.app.model.workspace import Workspace
from isophon.app.pages.hand_over_form import HandOverForm
from isophon.app.pages.proof_page import ProofPage
from isophon.app.pages.results_table import ResultsTable
from isophon.app.sheets import PASSES
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row, named
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

_NEAR_FULL_DBFS, _TELLING = -0.5, 0.05


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
        self.form = HandOverForm(workspace, self)
        self.form.changed.connect(self.show_will)
        self.look = QPushButton(tr("Look at the proof"))
        self.look.setToolTip("What the proof will show, as far as it is known before anything is written")
        self.look.clicked.connect(self.show_proof)
        self.will = Label(wordWrap=True)
        self.write = named(QPushButton(tr("Hand over")), "main")
        self.write.setToolTip("Write the stems, read them back and compare")
        self.write.clicked.connect(self.start)
        self.cancel = QPushButton(tr("Cancel"))
        self.cancel.setToolTip("Stop writing; nothing half-written is left")
        self.cancel.clicked.connect(lambda: workspace.pool.workers.cancel(list(self._tasks)))
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self.outcome = Label("", wordWrap=True)
        self.table = ResultsTable()
        self.table.part_asked.connect(self.part_asked)
        self._lay_out()
        workspace.session_changed.connect(self.show_will)
        workspace.take_changed.connect(self.show_will)
        self._busy(False)

    def _lay_out(self) -> None:
        scroll = QScrollArea(self, widgetResizable=True)
        page = named(QWidget(scroll.viewport()), "page")
        inner = QWidget(page)
        inner.setMaximumWidth(1080)
        column = make_column(inner, between=12)
        fields = self.form.fields()
        fields.addWidget(Label(tr("Will be written")), 7, 0, Qt.AlignmentFlag.AlignTop)
        fields.addWidget(self.will, 7, 1)
        buttons = make_row()
        buttons.addWidget(self.write)
        buttons.addWidget(self.look)
        buttons.addWidget(self.bar, 1)
        buttons.addWidget(self.cancel)
        buttons.addStretch()
        column.addWidget(Label(tr("Hand over"), objectName="title"))
        about = (
            "Stems keep their length, channels and place, and their rate unless Lay out says another. "
            "The recordings are never written to."
        )
        column.addWidget(Label(tr(about), objectName="soft"))
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

    def _numbered(self, part: Part, target: Target) -> Target:
        """The target with the number of a part's row in Lay out."""
        ids = [one.id for one in self.workspace.session.parts]
        return numbered(target, ids.index(part.id) + 1, len(ids))

    def show_proof(self) -> None:
        """Show the proof as far as it is known now."""
        session, without = self.workspace.session, self.form.target().without
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
        return [p for p in parts if self.form.which.currentIndex() == 0 or p.id in in_hand]

    def show_will(self) -> None:
        """Say what will be written, once it is seen."""
        if not self.isVisible():
            return
        self.form.show_aside()
        parts, target = self.parts(), self.form.target()
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
            tr("   ·   ".join([*shown, *reports]) + f"\nChanged: {', '.join(counts)}" + missing
            + (warn if target.depth != "32f" else "")
            if parts else "There is no part to hand over yet.")
        )  # fmt: skip
        self.form.clip.setEnabled(target.depth != "32f")
        self.write.setEnabled(bool(parts) and not self._tasks)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.show_will()

    def start(self) -> None:
        """Write, in the background; an error of one part stops no other."""
        self._target = target = self.form.target()
        self._made = None
        self.outcome.setText("")
        try:
            if not self.form.folder.text().strip():
                raise OutputError("No folder is named; choose where to hand over first")
            check_target(target.fmt, target.depth)
            if target.clip == "float" and target.fmt == "flac":
                raise OutputError("FLAC holds no 32-bit float samples; turn down what would clip, or choose WAV")
            if self.form.all_or_nothing.isChecked():
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
        """From a worker's thread to the window's, as long as the window is there."""
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
                self.outcome.setText(tr(f"{self._doing}, about {math.ceil(left)} s left"))
            return
        part_id = self._tasks.pop(task)
        if kind == "done":
            self._written[part_id] = value["row"]
            self.table.add(part_id, value["row"], self._target.depth, self._target.folder)
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
        self.outcome.setText(tr(words))

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

    def _busy(self, on: bool) -> None:
        self.write.setEnabled(not on and bool(self.workspace.session.parts))
        self.bar.setVisible(on)
        self.cancel.setVisible(on)
        self.bar.setValue(0)
        if on:
            self.outcome.setText(tr(self._doing))
