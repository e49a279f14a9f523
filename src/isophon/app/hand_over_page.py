"""Hand over: what will be written, where, and the figures before and after."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from isophon.app import theme
from isophon.app.desk import Desk
from isophon.app.jobs import Job
from isophon.core import handover
from isophon.core.audio.writing import check_target
from isophon.core.errors import IsophonError

_DEPTHS = {"24 bit": "24", "16 bit": "16", "32 bit float": "32f"}


class HandOverPage(QWidget):
    """Writes the cleaned stem with the same core as the command line."""

    told = Signal(str)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent, objectName="page")
        self.desk = desk
        self._job: Job | None = None
        source = Path(desk.part.source.path)
        self.folder = QLineEdit(str(source.parent / "cleaned"))
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._choose)
        self.format, self.depth = QComboBox(), QComboBox()
        self.format.addItems(["wav", "flac", "aiff"])
        self.depth.addItems(list(_DEPTHS))
        self.removed = QCheckBox("also what was taken out")
        self.labels = QCheckBox("also the marks, as text for any editor’s label track")
        self.force = QCheckBox("write over files that exist")
        self.will = QLabel(wordWrap=True)
        self.write = QPushButton("Hand over", objectName="main")
        self.write.clicked.connect(self.start)
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(lambda: self._job and self._job.cancel())
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self.outcome = QLabel("", wordWrap=True)
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["", "as sung", "cleaned"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setMinimumHeight(206)
        self._lay_out(choose)
        for widget in (self.format, self.depth):
            widget.currentIndexChanged.connect(self.show_will)
        for widget in (self.removed, self.labels):
            widget.toggled.connect(self.show_will)
        self.folder.textChanged.connect(self.show_will)
        desk.session_changed.connect(self.show_will)
        self._busy(False)
        self.table.hide()
        self.show_will()

    def _lay_out(self, choose: QPushButton) -> None:
        grid = QGridLayout(horizontalSpacing=14, verticalSpacing=10)
        folder = QHBoxLayout()
        folder.setSpacing(8)
        folder.addWidget(self.folder, 1)
        folder.addWidget(choose)
        grid.addWidget(QLabel("Folder"), 0, 0)
        grid.addLayout(folder, 0, 1)
        kind = QHBoxLayout()
        kind.setSpacing(8)
        kind.addWidget(self.format)
        kind.addWidget(self.depth)
        kind.addStretch()
        grid.addWidget(QLabel("Format"), 1, 0)
        grid.addLayout(kind, 1, 1)
        for row, box in enumerate((self.removed, self.labels, self.force), 2):
            grid.addWidget(box, row, 1)
        grid.addWidget(QLabel("Will be written"), 5, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(self.will, 5, 1)
        buttons = QHBoxLayout()
        buttons.addWidget(self.write)
        buttons.addWidget(self.bar, 1)
        buttons.addWidget(self.cancel)
        buttons.addStretch()
        column = QVBoxLayout()
        column.setSpacing(12)
        column.addWidget(QLabel("Hand over", objectName="title"))
        about = "The stem keeps its rate, channels and length. The recording itself is never written to."
        column.addWidget(QLabel(about, objectName="soft"))
        column.addLayout(grid)
        column.addLayout(buttons)
        column.addWidget(self.outcome)
        column.addWidget(self.table, 1)
        column.addStretch()
        inner = QWidget()
        inner.setLayout(column)
        inner.setMaximumWidth(820)
        page = QWidget(objectName="page")
        row = QHBoxLayout(page)
        row.setContentsMargins(64, 22, 64, 16)
        row.addWidget(inner, 1)
        row.addStretch()
        scroll = QScrollArea(widgetResizable=True)
        scroll.setWidget(page)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scroll)

    def target(self) -> handover.Target:
        """What was chosen."""
        return handover.Target(
            Path(self.folder.text()).expanduser(),
            self.format.currentText(),
            _DEPTHS[self.depth.currentText()],
            self.force.isChecked(),
            self.removed.isChecked(),
            self.labels.isChecked(),
        )

    def show_will(self) -> None:
        """Say what will be written."""
        target = self.target()
        names = [path.name for path in handover.outputs(Path(self.desk.part.source.path), target)]
        row = handover.kinds(self.desk.part)["ess"]
        deepest = theme.signed(row["deepest_change_db"])
        self.will.setText(
            "\n".join([*names, "report.json"])
            + f"\n\n{row['count']} esses: {row['changed']} brought down ({deepest} dB at most), {row['left']} as sung"
        )

    def start(self) -> None:
        """Write, in the background."""
        target, part, take = self.target(), self.desk.part, self.desk.take
        try:
            check_target(target.fmt, target.depth)
        except IsophonError as error:
            self.told.emit(str(error))
            return

        def work(progress) -> dict[str, Any]:
            handover.check_free(take.recording.path, target)
            row = handover.hand_over(part, take.recording, take.survey, target, progress)
            handover.write_report([row], target.folder)
            return row

        self._job = Job(work)
        self._job.progressed.connect(lambda f: self.bar.setValue(round(1000 * f)))
        self._job.done.connect(self._done)
        self._job.failed.connect(self._failed)
        self._job.cancelled.connect(lambda: self._ended("Cancelled; nothing half-written was left."))
        self.table.hide()
        self._busy(True)
        self._job.start()

    def _done(self, row: dict[str, Any]) -> None:
        self._ended(f"Written to {self.target().folder}")
        before, after, ess = row["before"], row["after"], row["kinds"]["ess"]
        lines = [
            ("Loudness", f"{before['loudness_lufs']:.1f} LUFS", f"{after['loudness_lufs']:.1f} LUFS"),
            ("True peak", f"{before['true_peak_dbtp']:.1f} dBTP", f"{after['true_peak_dbtp']:.1f} dBTP"),
            ("Stillness", f"{before['floor_dbfs']:.1f} dBFS", f"{after['floor_dbfs']:.1f} dBFS"),
            (
                "Esses over the ceiling",
                str(ess["changed"]),
                "0" if not self._limited() else f"{self._limited()} at the limit",
            ),
            ("Brought down in all", "", f"{ess['total_change_db']:.1f} dB"),
        ]
        if row["clipped_samples"]:
            lines.append(("Samples clipped at full scale", "", str(row["clipped_samples"])))
        self.table.setRowCount(len(lines))
        for i, line in enumerate(lines):
            for j, text in enumerate(line):
                item = QTableWidgetItem(text.replace("-", "−") if j else text)
                item.setFont(theme.mono(13) if j else theme.sans(13))
                self.table.setItem(i, j, item)
        self.table.show()

    def _limited(self) -> int:
        part, ceiling = self.desk.part, self.desk.ceiling
        return sum(
            1
            for m in part.marks
            if part.change(m) < 0 and not m.hand.any and m.standout_db + part.change(m) > ceiling + 0.05
        )

    def _failed(self, why: str) -> None:
        self._ended("")
        self.told.emit(why)

    def _ended(self, words: str) -> None:
        self._busy(False)
        self.outcome.setText(words)

    def _busy(self, on: bool) -> None:
        self.write.setEnabled(not on)
        self.bar.setVisible(on)
        self.cancel.setVisible(on)
        self.bar.setValue(0)
        if on:
            self.outcome.setText("Writing the stem")

    def _choose(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, "Where to hand over", self.folder.text())
        if folder:
            self.folder.setText(folder)
