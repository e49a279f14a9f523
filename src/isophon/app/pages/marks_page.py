"""The marks of the pass that is open as a table: for the keyboard, for screen readers, and for looking one up."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr, tr_all
from isophon.app.views.labels import Label
from isophon.app.views.made import RIGHT, figures_right, make_column
from isophon.app.views.mark_words import mark_words
from isophon.core.marks import Mark

_COLUMNS = ("Start", "What", "Level", "Stands out", "Change", "Decided")
_FIGURES = (0, 2, 3, 4)
_MOST = 5_000


class MarksPage(QDialog):
    """Stays open beside the work: a row that is chosen is the selected mark."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.setWindowTitle(tr("Marks"))
        self.resize(640, 520)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._filling = False
        self._shown: object = None
        self.head = Label("", objectName="title")
        self.table = QTableWidget(0, len(_COLUMNS))
        self.table.setHorizontalHeaderLabels(tr_all(_COLUMNS))
        self.table.setAccessibleName(tr("Marks"))
        figures_right(self.table, _FIGURES)
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.itemSelectionChanged.connect(self._select)
        column = make_column(self, around=(20, 16, 20, 16))
        column.addWidget(self.head)
        column.addWidget(self.table, 1)
        workspace.part_changed.connect(self._show)
        workspace.selection_changed.connect(self._mark_selected)
        self._show()

    def _show(self) -> None:
        workspace, which = self.workspace, self.workspace.pass_
        shown = workspace.part.changes, workspace.part.marks, which
        if self._shown is not None and all(a is b for a, b in zip(shown, self._shown, strict=True)):  # type: ignore[call-overload]
            return
        self._shown = shown
        marks = workspace.marks[:_MOST]
        self.head.setText(tr(f"{which.name} · {workspace.part.name}"))
        self._filling = True
        self.table.setRowCount(len(marks))
        for row, mark in enumerate(marks):
            for column, text in enumerate(self._texts(mark)):
                cell = QTableWidgetItem(tr(text))
                cell.setData(Qt.ItemDataRole.UserRole, mark.id)
                cell.setData(
                    Qt.ItemDataRole.AccessibleDescriptionRole, mark_words(workspace, mark) if not column else ""
                )
                if column in _FIGURES:
                    cell.setTextAlignment(RIGHT)
                self.table.setItem(row, column, cell)
        self._filling = False
        self._mark_selected()

    def _texts(self, mark: Mark) -> tuple[str, ...]:
        workspace, which = self.workspace, self.workspace.pass_
        change = workspace.part.change(mark)
        hand = mark.hand
        decided = ("left as sung" if hand.leave else "by hand" if mark.by_hand is not None or hand.drawn
                   else "accepted, not audible" if hand.masked else "accepted" if hand.agreed else "")  # fmt: skip
        return (
            theme.clock(mark.span[0] + workspace.offset),
            which.words.letter(mark) or which.words.one,
            theme.level(mark.level_db, "LUFS"),
            f"{theme.signed(which.skyline.height(mark))} {which.unit}",
            f"{theme.signed(change)} {which.unit}" if change else "none",
            decided,
        )

    def _select(self) -> None:
        if self._filling:
            return
        rows = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        names = [item.data(Qt.ItemDataRole.UserRole) for row in rows if (item := self.table.item(row, 0))]
        if names and tuple(names) != self.workspace.selected_marks:
            self.workspace.select_marks(names)

    def _mark_selected(self) -> None:
        """Choose the rows of the selected marks."""
        self._filling = True
        self.table.clearSelection()
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.MultiSelection)
        for row in range(self.table.rowCount()):
            item = self.table.item(row, 0)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) in self.workspace.selected_marks:
                self.table.selectRow(row)
                self.table.scrollToItem(item)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self._filling = False
