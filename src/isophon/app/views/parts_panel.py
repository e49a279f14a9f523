"""The parts panel: one row a part, the references below, and how far the analysis is."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QFrame, QProgressBar, QPushButton, QScrollArea, QWidget

from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.item_row import ItemRow
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row, named
from isophon.core.session.items import Guide

WIDTH = 196
_SOON_MS = 150


class PartsPanel(QFrame):
    """The parts and references of the session. Click: select. Ctrl: several. Shift: all between."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self.workspace = workspace
        self.rows: dict[str, ItemRow] = {}
        self.work = Label("", objectName="soft")
        self.bar = QProgressBar(maximum=1000, textVisible=False)
        self._soon = QTimer(self, singleShot=True, interval=_SOON_MS)
        self._soon.timeout.connect(self._show_work)
        self.stop = named(QPushButton(tr("Stop")), "plain")
        self.stop.setToolTip("Stop the analysis; what is measured stays, and it can go on later")
        self.stop.clicked.connect(self._stop_or_go)
        working = make_row(around=(16, 0, 8, 0))
        working.addWidget(self.work, 1)
        working.addWidget(self.stop)
        self._list = make_column(between=0, around=(0, 0, 0, 8))
        inner = named(QWidget(), "panel")
        inner.setLayout(self._list)
        scroll = named(QScrollArea(), "panel")
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column = make_column(self, between=0)
        column.addWidget(scroll, 1)
        column.addLayout(working)
        column.addWidget(self.bar)
        workspace.session_changed.connect(self._show)
        workspace.take_changed.connect(self._show)
        workspace.part_changed.connect(self._show)
        workspace.pool.progressed.connect(lambda: self._soon.isActive() or self._soon.start())
        self._show()
        self._show_work()

    def _show(self) -> None:
        ids = [item.id for item in self.workspace.session.items]
        kinds = {item.id: isinstance(item, Guide) for item in self.workspace.session.items}
        if [(i, row.is_guide) for i, row in self.rows.items()] != [(i, kinds[i]) for i in ids]:
            self._fill()
        for row in self.rows.values():
            row.show_state()

    def _fill(self) -> None:
        while self._list.count():
            place = self._list.takeAt(0)
            widget = place.widget() if place else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.rows = {}
        session = self.workspace.session
        for title, items in (("Parts", session.parts), ("References", session.guides)):
            if not items:
                continue
            heading = Label(tr(f"{title}  {len(items)}"), objectName="head")
            heading.setContentsMargins(12, 4, 0, 4)
            self._list.addWidget(heading)
            for item in items:
                row = ItemRow(self.workspace, item.id, isinstance(item, Guide))
                row.taken.connect(self._take)
                self.rows[item.id] = row
                self._list.addWidget(row)
        self._list.addStretch(1)

    def _take(self, part_id: str, modifiers: Qt.KeyboardModifier) -> None:
        workspace = self.workspace
        if modifiers & Qt.KeyboardModifier.ShiftModifier:
            ids = [p.id for p in workspace.session.parts]
            here, there = ids.index(workspace.part.id), ids.index(part_id)
            between = ids[min(here, there) : max(here, there) + 1]
            workspace.select_parts([workspace.part.id, *(i for i in between if i != workspace.part.id)])
        else:
            workspace.select_part(part_id, bool(modifiers & Qt.KeyboardModifier.ControlModifier))

    def _show_work(self) -> None:
        done, total, fraction = self.workspace.pool.overall()
        stopped = self.workspace.pool.stopped
        busy = total > 0
        self.bar.setVisible(busy)
        self.bar.setValue(round(1000 * fraction))
        self.stop.setVisible(busy or stopped)
        self.stop.setText(tr("Go on" if stopped else "Stop"))
        self.work.setVisible(busy or stopped)
        self.work.setText(tr("analysis stopped" if stopped else f"analysing: {done} of {total}"))
        for row in self.rows.values():
            row.update()

    def _stop_or_go(self) -> None:
        if self.workspace.pool.stopped:
            self.workspace.pool.resume(self.workspace.session)
        else:
            self.workspace.pool.stop()
        self._show_work()
