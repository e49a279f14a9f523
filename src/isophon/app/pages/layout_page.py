"""Lay out: what each recording is, where it starts, and what is odd about it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QPushButton,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from isophon.app import theme
from isophon.app.model.keys import key_tip
from isophon.app.model.workspace import Workspace
from isophon.app.pages.relinking import missing_beside, other_shape, source_at
from isophon.app.translation import tr, tr_all
from isophon.app.views.file_dialog import SOUND_FILES, file_to_open, files_to_open, folder_to_use
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import Label
from isophon.app.views.made import RIGHT, figures_right, make_column, make_row
from isophon.app.views.song_chart import SongChart
from isophon.core.errors import IsophonError
from isophon.core.reading import path_of
from isophon.core.session import layout
from isophon.core.session.items import GUIDES, Guide
from isophon.core.session.model import ROLES, Part, Session
from isophon.core.takes.remarks import remarks
from isophon.core.takes.take import Take

COLUMNS = ("Name", "Role", "Singer", "Start", "Rate", "Length", "Channels", "Level", "Clipped", "Silence",
           "Remarks")  # fmt: skip
_NAME, _WHAT, _SINGER, _START = range(4)
_SONG_SHARE = 0.5  # of the page
FILTER = f"Recordings ({SOUND_FILES})"


class LayoutPage(QWidget):
    """The table of the session's recordings."""

    add_asked = Signal(list)

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.workspace = workspace
        self._shown: list = []
        self._filling = False
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(tr_all(COLUMNS))
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(34)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self.table.setWordWrap(True)
        self.table.itemChanged.connect(self._edited)
        self.table.itemSelectionChanged.connect(self._show_buttons)
        self.table.setAccessibleName(tr("Recordings"))
        self.chart = SongChart(workspace)
        self.chart.moved.connect(self._set_start)
        self.about = Label("", objectName="soft")
        self.add, self.folder, self.replace, self.remove, self.up, self.down = (
            QPushButton(tr(text))
            for text in ("Add recordings…", "Add a folder…", "Replace…", "Remove", "Move up", "Move down")
        )
        key_tip(self.add, "Choose recordings that belong to this song ({open})")
        self.folder.setToolTip("Take all recordings of a folder into this song")
        self.up.setToolTip("Move the selected row up; parts are handed over in this order")
        self.down.setToolTip("Move the selected row down; parts are handed over in this order")
        self.replace.setToolTip("Let this row name another file: one that was moved, or a newer export")
        self.remove.setToolTip("Remove it from the session; the file stays (undo brings it back)")
        self.add.clicked.connect(self._ask_files)
        self.folder.clicked.connect(self._ask_folder)
        self.replace.clicked.connect(self._ask_replacement)
        self.remove.clicked.connect(self._remove)
        self.up.clicked.connect(lambda: self._move(-1))
        self.down.clicked.connect(lambda: self._move(1))
        self.rate = Choice()
        self.rate.setAccessibleName(tr("Rate of the stems"))
        self.rate.setToolTip("The sample rate at which stems are handed over")
        self.rate.addItem(tr("each at its own rate"), None)
        for rate in layout.RATES:
            self.rate.addItem(tr(f"all at {rate / 1000:g} kHz"), rate)
        self.rate.activated.connect(self._choose_rate)
        self._lay_out()
        workspace.session_changed.connect(self.refresh)
        workspace.take_changed.connect(self.refresh)

    def _lay_out(self) -> None:
        buttons = make_row()
        for button in (self.add, self.folder, self.replace, self.remove, self.up, self.down):
            buttons.addWidget(button)
        buttons.addStretch(1)
        buttons.addWidget(Label(tr("Stems are handed over"), objectName="soft"))
        buttons.addWidget(self.rate)
        header = self.table.horizontalHeader()
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        widths = (140, 158, 106, 92, 90, 80, 74, 112, 68, 68)
        for i, width in enumerate(widths):
            header.setSectionResizeMode(i, QHeaderView.ResizeMode.Interactive)
            self.table.setColumnWidth(i, width)
        header.setStretchLastSection(True)
        figures_right(self.table, range(_START, len(COLUMNS) - 1))
        column = make_column(self, between=8, around=(24, 16, 24, 16))
        column.addWidget(Label(tr("Lay out"), objectName="title"))
        column.addWidget(self.about)
        self.song = QScrollArea(widgetResizable=True)
        self.song.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.song.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.song.setWidget(self.chart)
        column.addWidget(self.song)
        column.addWidget(self.table, 1)
        column.addLayout(buttons)

    # showing

    def refresh(self) -> None:
        """Show what the session says now, once it is seen."""
        if not self.isVisible():
            return
        session = self.workspace.session
        takes = [self.workspace.pool.take(item.source) for item in session.items]
        parts = [(part.id, part.name, part.role, part.singer, part.offset_s, part.source) for part in session.parts]
        guides = [(guide.id, guide.name, guide.kind, "", guide.offset_s, guide.source) for guide in session.guides]
        listed = [*parts, *guides]
        facts = [(one, session.rate, t.figures, t.trouble) for one, t in zip(listed, takes, strict=True)]
        self.chart.refresh()
        self._fit_chart()
        if facts == self._shown:
            return
        before, self._shown = self._shown, facts
        count = len(session.items)
        self.about.setText(
            tr("Drop recordings or folders here, or add them. Say what each is; names, starts and singers can be typed."
            if count else "Nothing is laid out yet. Drop the vocal recordings of a song here, or add them below.")
        )  # fmt: skip
        self._filling = True
        chosen = self._chosen()
        self.table.setRowCount(count)
        for row, (item, take) in enumerate(zip(session.items, takes, strict=True)):
            if row >= len(before) or before[row] != facts[row]:
                self._fill_row(row, item, take)
        self._fit_rows()
        self.table.clearSelection()
        for row, item in enumerate(session.items):
            if item.id in chosen:
                self.table.selectRow(row)
        self.rate.setCurrentIndex(max(0, self.rate.findData(session.rate)))
        self._filling = False
        self._show_buttons()

    def _fill_row(self, row: int, item: Part | Guide, take: Take) -> None:
        source, figures = item.source, take.figures
        said = remarks(self.workspace.session, item, figures, take.trouble)
        texts = (
            item.name, "", getattr(item, "singer", ""), f"{item.offset_s:.3f} s", f"{source.sample_rate / 1000:g} kHz",
            theme.clock(source.duration), {1: "mono", 2: "stereo"}.get(source.channels, str(source.channels)),
            theme.level(figures.level_dbfs) if figures else "…",
            (str(figures.clipped) if figures.clipped else "none") if figures else "…",
            f"{100 * figures.silent:.0f} %" if figures else "…",
            "\n".join(said),
        )  # fmt: skip
        for column, text in enumerate(texts):
            cell = QTableWidgetItem(text if column in (_NAME, _SINGER) else tr(text))
            cell.setData(Qt.ItemDataRole.UserRole, item.id)
            editable = column in (_NAME, _START) or (column == _SINGER and isinstance(item, Part))
            if not editable:
                cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
            if _START <= column < len(COLUMNS) - 1:
                cell.setFont(theme.mono(theme.TEXT))
                cell.setTextAlignment(RIGHT)
            if column == len(COLUMNS) - 1:
                cell.setToolTip("\n".join(said))
                cell.setForeground(theme.OVER if take.trouble else theme.INK)
            if column == _NAME:
                cell.setToolTip(source.path)
            self.table.setItem(row, column, cell)
        choice = Choice()
        choice.setAccessibleName(tr(f"What {item.name} is"))
        choice.setToolTip("A part is cleaned, a reference only helps; its role gives a part its first settings")
        for what in (*ROLES, *GUIDES):
            choice.addItem(tr(theme.ROLE_WORDS[what] + (" (reference)" if what in GUIDES else "")), what)
        choice.setCurrentIndex(choice.findData(item.role if isinstance(item, Part) else item.kind))
        choice.activated.connect(lambda _, box=choice, i=item.id: self._set_what(i, box.currentData()))
        choice.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        holder = QWidget()
        middle = make_column(holder)
        middle.addWidget(choice, 0, Qt.AlignmentFlag.AlignVCenter)
        self.table.setCellWidget(row, _WHAT, holder)

    def _fit_rows(self) -> None:
        """Rows as high as their remarks need."""
        last = len(COLUMNS) - 1
        width = max(80, self.table.columnWidth(last) - 18)
        metrics = self.table.fontMetrics()
        for row in range(self.table.rowCount()):
            item = self.table.item(row, last)
            text = item.text() if item else ""
            box = metrics.boundingRect(0, 0, width, 1_000, Qt.TextFlag.TextWordWrap, text)
            self.table.setRowHeight(row, max(34, box.height() + 14))

    def _fit_chart(self) -> None:
        """The rows of the song as high as they need, but no more than some of the page."""
        self.song.setVisible(bool(self.chart.rows))
        self.song.setFixedHeight(min(self.chart.sizeHint().height() + 2, round(_SONG_SHARE * self.height())))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_chart()
        self._fit_rows()

    def _show_buttons(self) -> None:
        chosen = len(self._chosen())
        self.replace.setEnabled(chosen == 1)
        self.remove.setEnabled(chosen > 0)
        for button in (self.up, self.down):
            button.setEnabled(chosen == 1)

    def _chosen(self) -> list[str]:
        rows = sorted({index.row() for index in self.table.selectionModel().selectedRows()})
        items = (self.table.item(row, _NAME) for row in rows)
        return [item.data(Qt.ItemDataRole.UserRole) for item in items if item]

    # editing

    def _edited(self, cell: QTableWidgetItem) -> None:
        if self._filling:
            return
        item_id, text = cell.data(Qt.ItemDataRole.UserRole), cell.text()
        name = self.workspace.session.item(item_id).name
        if cell.column() == _NAME:
            changed = self.workspace.edit(f"rename {name}", lambda s: layout.set_name(s, item_id, text))
        elif cell.column() == _SINGER:
            changed = self.workspace.edit(f"singer of {name}", lambda s: layout.set_singer(s, item_id, text))
        else:
            seconds = _seconds(text)
            if seconds is None:
                self.workspace.notice.emit(f"“{text}” is no time; type seconds (12.5) or minutes and seconds (0:12.5).")
            changed = seconds is not None and self.workspace.edit(
                f"start of {name}", lambda s: layout.set_offset(s, item_id, seconds)
            )
        if not changed:
            self._shown = []
            self.refresh()

    def _set_start(self, item_id: str, seconds: float, gesture: object) -> None:
        name = self.workspace.session.item(item_id).name
        self.workspace.edit(f"start of {name}", lambda s: layout.set_offset(s, item_id, seconds), gesture)

    def _set_what(self, item_id: str, what: str) -> None:
        item = self.workspace.session.item(item_id)
        self.workspace.edit(f"{item.name} is {theme.ROLE_WORDS[what]}", lambda s: layout.set_what(s, item_id, what))

    def _choose_rate(self) -> None:
        rate = self.rate.currentData()
        self.workspace.edit("rate of the stems", lambda s: layout.set_rate(s, rate))

    def _remove(self) -> None:
        ids = self._chosen()
        words = self.workspace.session.item(ids[0]).name if len(ids) == 1 else f"{len(ids)} recordings"
        self.workspace.edit(f"remove {words}", lambda s: layout.remove(s, ids))

    def _move(self, step: int) -> None:
        item_id = self._chosen()[0]
        self.workspace.edit(
            f"move {self.workspace.session.item(item_id).name}",
            lambda s: layout.move(s, item_id, step),
            ("move", item_id),
        )

    # files

    def _ask_files(self) -> None:
        paths = files_to_open(self, "Add recordings", self._here(), FILTER)
        if paths:
            self.add_asked.emit(paths)

    def _ask_folder(self) -> None:
        folder = folder_to_use(self, "Add all recordings of a folder", self._here())
        if folder is not None:
            self.add_asked.emit([folder])

    def _ask_replacement(self) -> None:
        item_id = self._chosen()[0]
        path = file_to_open(self, "Which file is it now?", self._here(), FILTER)
        if path is None:
            return
        if self.workspace.pool.take(self.workspace.session.item(item_id).source).trouble:
            self.relink(item_id, path)
        else:
            self.workspace.replacing.begin(item_id, path)

    def relink(self, item_id: str, path: Path) -> None:
        """Let a row name another file; other missing files that lie beside it are found with it."""
        session = self.workspace.session
        found = {item_id: path} | missing_beside(session, path.parent, item_id)
        try:
            sources = {name: source_at(where) for name, where in found.items()}
        except IsophonError as error:
            self.workspace.troubled.emit(str(error))
            return

        def changed(value: Session) -> Session:
            for name, source in sources.items():
                value = layout.relink(value, name, source)
            return value

        taken = {item.source.path: item.name for item in session.items if item.id not in sources}
        twice = [taken[source.path] for source in sources.values() if source.path in taken]
        if twice:
            self.workspace.notice.emit(f"That file is in the session already, as {twice[0]}; nothing was replaced.")
            return
        for source in sources.values():
            self.workspace.pool.forget(source)
        self.workspace.edit(f"replace {session.item(item_id).name}", changed)
        self.workspace.analysis.restock()
        differences = [other_shape(session.item(name), source) for name, source in sources.items()]
        if len(found) > 1:
            differences.append(f"{len(found) - 1} other missing recordings were found beside it.")
        if any(differences):
            self.workspace.notice.emit(" ".join(filter(None, differences)))

    def _here(self) -> Path | None:
        """The folder of the session's recordings."""
        items = self.workspace.session.items
        return path_of(items[0].source.path).parent if items else None


def _seconds(text: str) -> float | None:
    """Seconds from ``12.5``, ``12,5 s`` or ``1:02.5``."""
    text = text.replace("−", "-").replace(",", ".").removesuffix("s").strip()
    minutes, colon, rest = text.rpartition(":")
    try:
        seconds = float(rest)
        return seconds + 60 * float(minutes) if colon else seconds
    except ValueError:
        return None
