"""Versions: ways of cleaning that are kept under letters, how they differ, and which one counts."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QPlainTextEdit, QPushButton, QWidget

from isophon.app.model.keys import key_tip, keyed
from isophon.app.model.workspace import Workspace
from isophon.app.pages.settings_differ import settings_that_differ
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row, named, switch
from isophon.core.errors import CallError
from isophon.core.passes import NAMES
from isophon.core.ranges import LETTERS, Letter
from isophon.core.session import versions
from isophon.core.session.model import Part, Session
from isophon.core.session.stored_version import PartDecisions

_MOST_LINES = 400


class VersionsPage(QDialog):
    """Stays open beside the work, which goes on playing."""

    def __init__(self, workspace: Workspace, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.workspace = workspace
        self.setWindowTitle(tr("Versions"))
        self.resize(520, 440)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = make_column(self, around=(20, 16, 20, 16))
        column.addWidget(Label(tr("Versions"), objectName="title"))
        about = (
            "A letter keeps all that is decided now. Go to another letter, change on, and switch between them while it "
            "plays ({version_A} to {version_D}). What you change belongs to the letter in force."
        )
        column.addWidget(Label(tr(keyed(about)), objectName="soft", wordWrap=True))
        row = make_row()
        self.letters: dict[Letter, QPushButton] = {}
        for letter in LETTERS:
            button = switch(letter)
            key_tip(button, f"Go to version {letter} ({{version_{letter}}})")
            button.clicked.connect(partial(go_to, workspace, letter))
            self.letters[letter] = button
            row.addWidget(button)
        row.addStretch()
        column.addLayout(row)
        self.head = Label("", objectName="head")
        column.addWidget(self.head)
        self.text = named(QPlainTextEdit(), "list")
        self.text.setReadOnly(True)
        self.text.setAccessibleName(tr("How the others differ from what stands now"))
        column.addWidget(self.text, 1)
        buttons = make_row()
        self.settle = QPushButton(tr("Keep this one only"))
        self.settle.setToolTip("What stands now is the one that counts; the letters go")
        self.settle.clicked.connect(lambda: workspace.edit("keep one version", versions.settled))
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        buttons.addWidget(self.settle)
        buttons.addStretch()
        buttons.addWidget(close)
        column.addLayout(buttons)
        workspace.session_changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        session = self.workspace.session
        letters = {one.letter for one in session.versions}
        for letter, button in self.letters.items():
            button.setChecked(letter == session.version)
            button.setText(tr(letter if letter in letters else f"{letter} (new)"))
        self.settle.setEnabled(bool(letters))
        self.head.setText(tr(f"Version {session.version} is in force" if session.version else "No versions yet"))
        self.text.setPlainText("\n".join(_lines_of(session)))


def _lines_of(session: Session) -> list[str]:
    lines: list[str] = []
    for one in session.versions:
        if one.letter != session.version:
            differ = [
                line
                for part, decisions in versions.parts_of(session, one.letter)
                for line in _differences(part, decisions)
            ]
            lines += [f"{one.letter}, where it differs from now:", *(f"   {line}" for line in differ[:_MOST_LINES])]
            lines += [f"   and {len(differ) - _MOST_LINES} more"] if len(differ) > _MOST_LINES else []
            lines += ["   nothing"] if not differ else []
    return lines


def _differences(part: Part, decisions: PartDecisions) -> list[str]:
    """How what is kept differs from what stands now in a part."""
    rows = settings_that_differ({kind: getattr(decisions, kind) for kind in NAMES}, part)
    lines = [f"{part.name}: {which}, {setting}: {there}, now {here}" for which, setting, there, here in rows]
    count = versions.marks_that_differ(part, decisions)
    return [*lines, f"{part.name}: {count} mark{'s' if count > 1 else ''} decided differently"] if count else lines


def go_to(workspace: Workspace, letter: Letter, *_: object) -> None:
    """Go to a version; its letter is new where nothing is kept under it yet."""
    _edit(workspace, f"version {letter}", partial(versions.gone_to, letter=letter))


def take_from(workspace: Workspace, letter: Letter) -> None:
    """Take what a version has for the selected parts alone."""
    ids = workspace.selected_parts
    _edit(workspace, f"{workspace.part.name} as in version {letter}",
          partial(versions.taken_from, letter=letter, part_ids=ids))  # fmt: skip


def _edit(workspace: Workspace, words: str, change: Callable[..., Session]) -> None:
    try:
        workspace.edit(words, lambda session: change(session))
    except CallError as error:
        workspace.notice.emit(f"{str(error)[:1].upper()}{str(error)[1:]}.")
