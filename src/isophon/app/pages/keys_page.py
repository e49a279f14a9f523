"""The page of keys: what each key does, and where it is changed."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import QDialog, QPushButton, QScrollArea, QWidget

from isophon.app.model.keys import HELD, KeyBook, key_book, shown_key
from isophon.app.sheets import PASSES
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import grid, make_column, make_row, named
from isophon.core.errors import IsophonError


def _station(number: int) -> str:
    """The key of a station: 1 to 9, 0, then with Alt."""
    return str(number % 10) if number <= 10 else f"Alt+{number - 10}"


key_book().add((
    ("lay_out", "1", "Lay out"),
    *((which.kind, _station(i), which.name) for i, which in enumerate(PASSES, 2)),
    ("hand_over", _station(len(PASSES) + 2), "Hand over"),
))  # fmt: skip


def keys_of_the_marks() -> set[str]:
    """The actions that act on what the passes show, and on nothing where that is not seen."""
    return {name for title, rows in key_book().groups if title in _SEEN for name, _, _ in rows} | _WALKED


class KeyButton(QPushButton):
    """Shows the key of an action; clicked, it takes the next key that is pressed. ``pressed_key(action, key)``.

    Esc gives up, Backspace asks for the usual key (``key`` is empty).
    """

    pressed_key = Signal(str, str)

    def __init__(self, action: str, what: str) -> None:
        super().__init__()
        self.setObjectName("key")
        self.action, self._what, self.waiting = action, what, False
        self.setAutoDefault(False)
        self.setToolTip("Click, then press the key that shall do this. Backspace: the usual key. Esc: leave it.")
        self.clicked.connect(lambda: self._wait(True))
        self.show_key()

    def show_key(self) -> None:
        """Show the key in force."""
        book = key_book()
        keys = next(keys for _, rows in book.groups for action, keys, _ in rows if action == self.action)
        held = " held" if self.action in HELD else ""
        self.setText(tr("press a key" if self.waiting else shown_key(keys.split(", ")[0]) + tr(held)))
        self.setProperty("own", book.is_changed(self.action))
        self.setAccessibleName(f"{tr(self._what)}: {self.text()}")
        self.style().unpolish(self)
        self.style().polish(self)

    def _wait(self, on: bool) -> None:
        self.waiting = on
        self.show_key()

    def event(self, event: QEvent) -> bool:
        if self.waiting and event.type() == QEvent.Type.ShortcutOverride:
            event.accept()  # else a key that does something already would do that
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.waiting:
            super().keyPressEvent(event)
            return
        key = Qt.Key(event.key())
        if key in _MODIFIERS:
            return
        self._wait(False)
        if key != Qt.Key.Key_Escape:
            self.pressed_key.emit(self.action, "" if key == Qt.Key.Key_Backspace else spelled_key(event))

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if self.waiting:
            self._wait(False)


def spelled_key(event: QKeyEvent) -> str:
    """A key as Qt spells it; of a sign, Shift is how it is typed and no part of it."""
    modifiers = event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
    if event.text() and not event.text().isalnum() and event.text().isprintable() and not event.text().isspace():
        modifiers &= ~Qt.KeyboardModifier.ShiftModifier
    pressed = QKeySequence(int(event.key()) | int(modifiers.value))
    return pressed.toString(QKeySequence.SequenceFormat.PortableText)


class KeysPage(QDialog):
    """The page that lists the keys, in as many columns as it has room for; a click on one changes it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Keys"))
        self._scroll = QScrollArea(widgetResizable=True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._shown = 0
        self._wide: dict[int, QSize] = {}  # how large they are in so many columns
        self.said = Label(tr(_HOW), objectName="soft", wordWrap=True)
        self.usual = QPushButton(tr("All usual keys"))
        self.usual.setAutoDefault(False)
        self.usual.setToolTip("Give every action its usual key again")
        self.usual.clicked.connect(lambda: self._change(KeyBook.take_back))
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        foot = make_row(between=8)
        foot.addWidget(self.said, 1)
        foot.addWidget(self.usual)
        foot.addWidget(close)
        layout = make_column(self, between=8, around=(24, 16, 24, 16))
        layout.addWidget(self._scroll)
        layout.addLayout(foot)
        room = self.screen().availableGeometry()
        wanted = self._show_columns(room.width() - 40)
        self.resize(
            min(wanted.width() + self._around, room.width() - 40), min(wanted.height() + 92, room.height() - 60)
        )
        self.usual.setEnabled(self._any_own())

    @property
    def buttons(self) -> dict[str, KeyButton]:
        """The buttons that are shown, by action."""
        return {button.action: button for button in self._scroll.findChildren(KeyButton)}

    def _choose(self, action: str, key: str) -> None:
        if key:
            self._change(lambda book: book.choose(action, key))
        else:
            self._change(lambda book: book.take_back(action))

    def _change(self, change: Callable[[KeyBook], None]) -> None:
        """Change keys, or say in one line why not."""
        try:
            change(key_book())
            self.said.setText(tr(_HOW))
        except IsophonError as error:
            self.said.setText(str(error)[:1].upper() + str(error)[1:] + ".")
        for button in self.buttons.values():
            button.show_key()
        self.usual.setEnabled(self._any_own())

    def _any_own(self) -> bool:
        return any(key_book().is_changed(action) for action in self.buttons)

    @property
    def _around(self) -> int:
        """What stands beside the keys."""
        return _MARGINS + self._scroll.verticalScrollBar().sizeHint().width()

    def _show_columns(self, width: int) -> QSize:
        """Show the keys in as many columns as fit into a page of some width; how large they are then."""
        if not self._wide:
            self._wide = {count: self._columns(count).sizeHint() for count in _COLUMNS}
        fitting = (count for count, size in self._wide.items() if size.width() + self._around <= width)
        count = next(fitting, _COLUMNS[-1])
        if count != self._shown:
            self._scroll.setWidget(self._columns(count))
            self._shown = count
        return self._wide[count]

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_columns(self.width())

    def _columns(self, count: int) -> QWidget:
        """All keys in so many columns, the longest groups first so that these are about as long as each other."""
        inner = named(QWidget(), "page")
        rows = grid(inner, 16, 0)
        row = [0] * count
        for title, group in sorted(key_book().groups, key=lambda one: -len(one[1])):
            side = row.index(min(row))
            if row[side]:
                rows.setRowMinimumHeight(row[side], 12)
                row[side] += 1
            rows.addWidget(Label(tr(title), objectName="head"), row[side], 3 * side, 1, 2)
            row[side] += 1
            for action, keys, what in group:
                _, *others = keys.split(", ")
                rows.addWidget(self._key(action, keys, what), row[side], 3 * side)
                words = f"{what} ({', '.join(others)} too)" if others else what
                rows.addWidget(Label(tr(words)), row[side], 3 * side + 1)
                row[side] += 1
        for side in range(1, count):
            rows.setColumnMinimumWidth(3 * side - 1, 12)
        rows.setRowStretch(max(row), 1)
        rows.setColumnStretch(3 * count - 2, 1)
        return inner

    def _key(self, action: str, keys: str, what: str) -> QWidget:
        if not action:
            return Label(shown_key(keys), objectName="number")
        button = KeyButton(action, what)
        button.pressed_key.connect(self._choose)
        return button


_HOW = "Click a key to change it."
_COLUMNS, _MARGINS = (3, 2, 1), 56
_SEEN = ("Deciding marks", "Parts", "Looking")
_WALKED = {"next_phrase", "previous_phrase", "next_word", "previous_word", "aside"}
_MODIFIERS = (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt, Qt.Key.Key_AltGr, Qt.Key.Key_Meta)
