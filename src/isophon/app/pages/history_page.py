"""The history: every step with its name, from the first to the last; a click goes there."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.workspace import Workspace
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column


class HistoryPage(QDialog):
    """Stays open beside the work."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.setWindowTitle(tr("History"))
        self.resize(430, 520)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        layout = make_column(self, around=(20, 16, 20, 16))
        layout.addWidget(Label(tr("History"), objectName="title"))
        about = Label(tr("Click a step to go there. What lies after it stays until something else is done."))
        about.setObjectName("soft")
        about.setWordWrap(True)
        layout.addWidget(about)
        self.steps = QListWidget()
        self.steps.setAccessibleName(tr("Steps"))
        self.steps.itemClicked.connect(lambda item: workspace.keeper.go(self.steps.row(item)))
        self.steps.itemActivated.connect(lambda item: workspace.keeper.go(self.steps.row(item)))
        layout.addWidget(self.steps, 1)
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        layout.addWidget(close, 0, Qt.AlignmentFlag.AlignRight)
        workspace.session_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        history = self.workspace.keeper.history
        names = ["as it was opened" if i == 0 else name for i, (name, _) in enumerate(history.steps)]
        if [self.steps.item(i).data(Qt.ItemDataRole.UserRole) for i in range(self.steps.count())] != names:
            self.steps.clear()
            for i, name in enumerate(names):
                item = QListWidgetItem(f"{i:3d}   {tr(name)}".replace("-", "−"))
                item.setData(Qt.ItemDataRole.UserRole, name)
                self.steps.addItem(item)
        for i in range(self.steps.count()):
            item = self.steps.item(i)
            item.setForeground(theme.SOFT_INK if i > history.at else theme.INK)
            item.setFont(
                theme.sans(theme.TEXT, theme.QFont.Weight.Bold if i == history.at else theme.QFont.Weight.Normal)
            )
        self.steps.setCurrentRow(history.at)
        self.steps.scrollToItem(self.steps.item(history.at))
