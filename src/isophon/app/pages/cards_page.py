"""Voice cards: what is kept for which singer, beside the selected part."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QDialog,
    QHeaderView,
    QInputDialog,
    QListWidget,
    QMenu,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from isophon.app import theme
from isophon.app.model import card_shelf
from isophon.app.model.keys import key_tip
from isophon.app.model.workspace import Workspace
from isophon.app.pages.settings_differ import settings_that_differ
from isophon.app.translation import tr, tr_all
from isophon.app.views.file_dialog import file_to_open, file_to_save
from isophon.app.views.keyboard import enable
from isophon.app.views.labels import Label, short
from isophon.app.views.made import make_column, make_row
from isophon.core.errors import IsophonError
from isophon.core.session import edits
from isophon.core.session.cards import settings_by_kind

_FILES = f"Voice card (*{card_shelf.ENDING})"


class CardsPage(QDialog):
    """Lists the cards; shows what the chosen one holds beside what the selected part has."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.setWindowTitle(tr("Voice cards"))
        self.resize(820, 560)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Voice cards"))
        self.list.setMaximumWidth(theme.u(200))
        self.list.currentRowChanged.connect(self._show_card)
        self.words = Label("", objectName="soft", wordWrap=True)
        self.table = QTableWidget(0, 4)
        self.table.setAccessibleName(tr("Settings of the card"))
        self.table.setHorizontalHeaderLabels(tr_all(["Pass", "Setting", "The card", "The selected part"]))
        self.table.verticalHeader().hide()
        self.table.setShowGrid(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.use = QPushButton(tr("Apply"))
        self.keep = QPushButton(tr("Save from this part…"))
        self.keep_accepted = QPushButton(tr("Save what was accepted"))
        key_tip(
            self.keep_accepted,
            "The settings of this part that were proposed and accepted ({accept_proposal}), and no others",
        )
        self.bring, self.give, self.away = (
            QPushButton(tr("Import…")),
            QPushButton(tr("Export…")),
            QPushButton(tr("Delete")),
        )
        self.use.setToolTip("Give the settings of this card to the selected parts; marks decided by hand stay")
        self.keep.setToolTip("Keep the settings of this part as a card for other songs")
        self.bring.setToolTip("Read a card from a file")
        self.give.setToolTip("Copy this card to a file")
        self.away.setToolTip("Delete this card")
        close = QPushButton(tr("Close"))
        self.keep_accepted.setMenu(self._whose_card())
        actions = {self.use: self._use, self.keep: self._keep, self.bring: self._bring_in, self.give: self._copy_out,
                   self.away: self._take_away, close: self.accept}  # fmt: skip
        for button, action in actions.items():
            button.clicked.connect(action)
        right = make_column()
        right.addWidget(self.words)
        right.addWidget(self.table, 1)
        beside = make_row()
        beside.addWidget(self.list)
        beside.addLayout(right, 1)
        foot = make_row()
        for button in (self.use, self.keep, self.keep_accepted, self.bring, self.give, self.away):
            foot.addWidget(button)
        foot.addStretch()
        foot.addWidget(close)
        layout = make_column(self, around=(20, 16, 20, 16))
        layout.addWidget(Label(tr("Voice cards"), objectName="title"))
        layout.addLayout(beside, 1)
        layout.addLayout(foot)
        workspace.part_changed.connect(self._show_card)
        self._list()

    @property
    def card(self) -> card_shelf.KeptCard | None:
        """The card that is chosen."""
        row = self.list.currentRow()
        return self._cards[row] if 0 <= row < len(self._cards) else None

    def _list(self, chosen: Path | None = None) -> None:
        self._cards = card_shelf.cards()
        self.list.clear()
        self.list.addItems([card.singer or tr("no name") for card in self._cards])
        singer = self.workspace.part.singer.casefold()
        wanted = [
            i for i, c in enumerate(self._cards) if c.path == chosen or (not chosen and c.singer.casefold() == singer)
        ]
        self.list.setCurrentRow(wanted[0] if wanted else 0)
        self._show_card()

    def _show_card(self) -> None:
        card, part = self.card, self.workspace.part
        for button in (self.use, self.give, self.away):
            enable(button, card is not None)
        enable(self.keep, bool(part.id))
        enable(self.keep_accepted, bool(part.accepted))
        rows = [] if card is None else settings_that_differ(card.card.onto(settings_by_kind(part)), part)
        self.table.setRowCount(len(rows))
        for at, row in enumerate(rows):
            for column, text in enumerate(row):
                self.table.setItem(at, column, QTableWidgetItem(tr(text)))
        if card is None:
            self.words.setText(tr("No card is kept yet. A card holds a singer’s settings, and nothing of one take."))
        elif not rows:
            self.words.setText(tr(f"The card of {card.singer} holds what {part.name} has."))
        else:
            self.words.setText(tr(f"Where the card of {card.singer} differs from {part.name}:"))

    def _use(self) -> None:
        card = self.card
        if card is not None:
            ids = self.workspace.selected_parts
            words = f"apply the voice card of {card.singer}"
            self.workspace.edit(words, lambda s: edits.apply_card(s, ids, card.card))

    def _whose_card(self) -> QMenu:
        """Whose card what was accepted goes into: the singer's, where one is named, or one's own."""
        menu = QMenu(self)

        def listed() -> None:
            menu.clear()
            for name in filter(None, (self.workspace.part.singer.strip(), card_shelf.OWN)):
                words = f"In “{name}”" if name == card_shelf.OWN else f"In the card of {short(name)}"
                menu.addAction(tr(words.replace("&", "&&")), partial(self._keep_accepted, name))

        menu.aboutToShow.connect(listed)
        return menu

    def _keep_accepted(self, name: str) -> None:
        part = self.workspace.part
        self._try(lambda: card_shelf.keep_accepted(name, part))

    def _keep(self) -> None:
        part = self.workspace.part
        singer, given = QInputDialog.getText(
            self, tr("Voice card"), tr("Whose voice is it?"), text=part.singer or part.name
        )
        if given and singer.strip():
            self._try(lambda: card_shelf.keep(singer, part))

    def _bring_in(self) -> None:
        path = file_to_open(self, "Import a voice card", None, _FILES)
        if path is not None:
            self._try(lambda: card_shelf.bring_in(path).path)

    def _copy_out(self) -> None:
        card = self.card
        if card is None:
            return
        path = file_to_save(self, "Copy the voice card", Path(card.path.name), _FILES, card_shelf.ENDING)
        if path is not None:
            self._try(lambda: card_shelf.copy_out(card, path))

    def _take_away(self) -> None:
        card = self.card
        if card is not None:
            self._try(lambda: card_shelf.take_away(card))

    def _try(self, work: Callable[[], Path | None]) -> None:
        try:
            path = work()
        except IsophonError as error:
            self.words.setText(str(error))
            return
        self._list(path)
