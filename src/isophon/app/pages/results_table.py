"""What was written, a part a row, in the order of the session."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import QMimeData, Qt, QUrl, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from isophon.app import theme
from isophon.app.sheets import PASSES
from isophon.app.translation import tr, tr_all
from isophon.core.session.model import Part

_FIGURES = {"loudness_lufs": "Loudness, LUFS", "true_peak_dbtp": "True peak, dBTP", "floor_dbfs": "Noise floor, dBFS"}
_COLUMNS = ("", *_FIGURES.values(), *(which.words.many.split(" of ")[0].capitalize() for which in PASSES))


class ResultsTable(QTableWidget):
    """Figures before and after and one column a kind; it is as high as its rows.

    A row opens its part, and can be dragged to another program: it is then the file of its stem.
    """

    part_asked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(0, len(_COLUMNS), parent)
        self._parts: Sequence[Part] = ()
        self._places: list[int] = []  # for each row, which of the parts it is of
        self._stems: dict[str, Path] = {}  # by part
        self.setDragDropMode(QTableWidget.DragDropMode.DragOnly)
        self.setDefaultDropAction(Qt.DropAction.CopyAction)
        self.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        self.setHorizontalHeaderLabels(tr_all(_COLUMNS))
        self.setAccessibleName(tr("Results"))
        self.verticalHeader().hide()
        self.setShowGrid(False)
        header = self.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        header.setStretchLastSection(True)
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setToolTip("Double-click or Return: open the part. Drag a row to another program: the file of its stem")
        self.cellActivated.connect(lambda row, _: self.part_asked.emit(self._parts[self._places[row]].id))
        self.hide()

    def begin(self, parts: Sequence[Part]) -> None:
        """Rows of these parts will come, in any order."""
        self._parts, self._places, self._stems = tuple(parts), [], {}
        self.clearSpans()
        self.setRowCount(0)

    def add(self, part_id: str, row: dict[str, Any], depth: str, folder: Path) -> None:
        """A part was written into a folder; ``row``: of the report; ``depth``: what was asked for."""
        self._stems[part_id] = folder / row["output"]
        before, after, kinds = row["before"], row["after"], row["kinds"]
        texts = [" → ".join(theme.level(side[key], "").strip() for side in (before, after)) for key in _FIGURES]
        self._add(part_id, [*texts, *(_counted(kinds.get(which.kind)) for which in PASSES)])
        if row.get("voice_gain_db"):
            self.add_line(part_id, f"as loud as it was sung: gain {theme.signed(row['voice_gain_db'])} dB")
        if row["trim_db"]:
            self.add_line(part_id, f"would have clipped: turned down by {-row['trim_db']:.1f} dB as a whole")
        elif row["depth"] != depth:
            self.add_line(part_id, "would have clipped: written as 32-bit float")

    def add_line(self, part_id: str, words: str) -> None:
        """What there is to say of a part."""
        self._add(part_id, [words])

    def _add(self, part_id: str, texts: Sequence[str]) -> None:
        """A row behind those of its part and of the parts before it; one text has the whole row."""
        place = next(i for i, part in enumerate(self._parts) if part.id == part_id)
        at = bisect_right(self._places, place)
        self._places.insert(at, place)
        self.insertRow(at)
        if len(texts) == 1:
            self.setSpan(at, 1, 1, len(_COLUMNS) - 1)
        for column, text in enumerate((self._parts[place].name, *texts)):
            cell = QTableWidgetItem(tr(text) if column else text)
            cell.setFont(theme.sans(theme.TEXT))
            self.setItem(at, column, cell)
        self.show()
        self._fit()

    def supportedDropActions(self) -> Qt.DropAction:
        """A stem is only ever copied: a program that moved it would take it out of its folder."""
        return Qt.DropAction.CopyAction

    def mimeTypes(self) -> list[str]:
        return ["text/uri-list"]

    def mimeData(self, items: Sequence[QTableWidgetItem]) -> QMimeData:
        """The stems of the rows that are dragged, as files; those that are not there any more are none."""
        parts = dict.fromkeys(self._parts[self._places[item.row()]].id for item in items)
        stems = [self._stems[part] for part in parts if part in self._stems and self._stems[part].is_file()]
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(stem.absolute())) for stem in stems])
        return data

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """No scroll bar inside of a page that scrolls."""
        wide = self.horizontalScrollBar()
        more = wide.sizeHint().height() if wide.maximum() > 0 else 0
        rows = self.verticalHeader().length() + self.horizontalHeader().sizeHint().height()
        self.setFixedHeight(rows + 2 * self.frameWidth() + more)


def _counted(kind: dict[str, Any] | None) -> str:
    if kind is None:
        return "left out"
    return f"{kind['changed']} of {kind['count']}" if kind["count"] else "none"
