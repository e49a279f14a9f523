"""All keys in one place: what they are, what they do, and the page that lists them."""

from __future__ import annotations

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QDialog, QPushButton, QScrollArea, QWidget

from isophon.app.sheets import PASSES
from isophon.app.views.labels import Label
from isophon.app.views.made import grid, make_column, named


def _station(number: int) -> str:
    """The key of a station: 1 to 9, 0, then with Alt."""
    return str(number % 10) if number <= 10 else f"Alt+{number - 10}"


KEYS: tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...] = (
    (
        "Deciding marks",
        (
            ("agree", "Return", "accept, and on to the next undecided mark"),
            ("worst_first", "W", "review all parts and passes as one list, worst first, or not"),
            ("accept_inaudible", "Shift+W", "accept all that cannot be heard in the mix"),
            ("leave", "L", "leave as sung and go on, or undo that"),
            ("back", "Shift+Return", "back to the mark before"),
            ("next", "Right", "next mark"),
            ("previous", "Left", "previous mark"),
            ("next_over", "Shift+Right", "next mark over the ceiling"),
            ("previous_over", "Shift+Left", "previous mark over the ceiling"),
            ("more", "Down", "a little more change, by hand"),
            ("less", "Up", "a little less"),
            ("same_there", "Ctrl+Return", "the same in the doubles, or the other selected parts"),
            ("treat", "Q", "treat others like this one: a list opens"),
            ("accept_proposal", "Shift+Y", "take over the setting that is proposed from what you decided"),
            ("forget", "Backspace", "back to the ceiling"),
            ("give_up", "Esc", "end drawing, clear the selection, undo the box"),
            ("draw_box", "V", "dragging draws a box, or no longer"),
            ("take_away", "Delete", "delete what was drawn; leave what was found as sung"),
            ("draw", "N", "make a mark of the selection"),
            ("singing", "I", "the selected time is singing"),
            ("not_singing", "Shift+I", "the selected time is not singing"),
            ("split", "/", "split the selected mark at the playhead"),
            ("join", "*", "join the selected marks"),
            ("start_earlier", "Alt+Left", "the mark’s start earlier"),
            ("start_later", "Alt+Right", "the mark’s start later"),
            ("end_earlier", "Alt+Shift+Left", "the mark’s end earlier"),
            ("end_later", "Alt+Shift+Right", "the mark’s end later"),
            ("ending", "G", "give back the ending that the selected gap cuts off"),
        ),
    ),
    (
        "Parts",
        (
            ("next_part", "Ctrl+Down", "select the next part"),
            ("previous_part", "Ctrl+Up", "select the part before"),
            ("all_parts", "Ctrl+A", "select all parts"),
            ("done", "D", "this pass is done for the selected parts, or not"),
        ),
    ),
    (
        "Listening",
        (
            ("play", "Space", "play or stop; from the selection, where there is one"),
            ("play_once", "Shift+Space", "the selection, or the selected mark, once"),
            ("play_here", ".", "play from the pointer"),
            ("speed", ",", "full speed, ¾, half, at the same pitch: the next"),
            ("", "Alt drag", "over the ruler: play what is under the pointer"),
            ("loop", "O", "loop the mark or the selection, or not"),
            ("compare", "C", "as sung, cleaned, removed: the next"),
            ("in_turn", "Shift+C", "as sung and cleaned alternate, loop by loop, or not"),
            ("", "S held", "as sung, while it is held"),
            ("", "B held", "the band of the selected mark alone, while it is held"),
            ("", "Ctrl+B held", "all but that band, while it is held"),
            ("", "Shift+B held", "the band that the rule of the esses listens to, while it is held"),
            ("next_phrase", "PgDown", "the next phrase, looped"),
            ("previous_phrase", "PgUp", "the phrase before, looped"),
            ("next_word", "Shift+PgDown", "the next word, looped"),
            ("previous_word", "Shift+PgUp", "the word before, looped"),
            ("rough", "R", "through the rough chain, or not"),
            ("match", "M", "match the loudness, or not"),
            ("mono", "Shift+M", "mono, or stereo again"),
            ("louder", "Ctrl++", "louder at the ears"),
            ("softer", "Ctrl+-", "softer at the ears"),
            ("hear", "H", "listen to this part, with the lead, the stack or the music: the next"),
            ("compare_all", "A", "compare all parts, or the selected ones"),
            ("hear_only", "E", "solo the selected part, or not"),
            ("mute", "U", "mute the selected part, or not"),
            ("pauses", "P", "the pauses alone, lifted, or all"),
            ("aside", "X", "without this pass, it alone, all passes: the next"),
        ),
    ),
    (
        "Looking",
        (
            ("zoom_in", "+", "closer"),
            ("zoom_out", "-", "further away"),
            ("zoom_mark", "Z", "zoom to the selected time, else to the selected mark"),
            ("whole", "Home", "the whole song"),
            ("map_alone", "F", "the map alone, or all"),
            ("stack", "Y", "the marks of all parts side by side, or not"),
            ("rank", "T", "skyline in time, tallest, riskiest, audible: the next"),
            ("marker", "K", "name this place"),
            ("note", "Shift+K", "write a note at the selected mark"),
            ("next_marker", "Ctrl+PgDown", "go to the next marker or note"),
            ("previous_marker", "Ctrl+PgUp", "go to the marker or note before"),
        ),
    ),
    (
        "The session",
        (
            ("undo", "Ctrl+Z", "undo"),
            ("redo", "Ctrl+Shift+Z, Ctrl+Y", "redo"),
            ("save", "Ctrl+S", "save"),
            ("save_as", "Ctrl+Shift+S", "save under another name"),
            ("open", "Ctrl+O", "open a session, or add recordings"),
            ("new", "Ctrl+N", "a new session"),
            ("close", "Ctrl+W", "close the session"),
            ("quit", "Ctrl+Q", "quit"),
            ("history", "Ctrl+H", "the history of all steps"),
            ("marks", "Ctrl+T", "the marks of this pass as a table"),
            ("", "Ctrl+1 to 4", "version A, B, C or D, of all parts"),
            ("", "Ctrl+Alt+1 to 4", "the selected parts as in version A, B, C or D"),
            ("lay_out", "1", "Lay out"),
            *((which.kind, _station(i), which.name) for i, which in enumerate(PASSES, 2)),
            ("hand_over", _station(len(PASSES) + 2), "Hand over"),
            ("preferences", "Ctrl+,", "preferences: look, type, motion, processes, what is kept"),
            ("help", "F1", "the manual, at what is open"),
            ("keys", "Shift+F1", "all keys on one page"),
        ),
    ),
)


def keys_of(action: str) -> list[str]:
    """The keys of an action; that of the number pad too, where there is a second one."""
    keys = next(key for _, group in KEYS for name, key, _ in group if name == action).split(", ")
    return [*keys, *(key.replace("Return", "Enter") for key in keys if "Return" in key)]


def keys_of_the_marks() -> set[str]:
    """The actions that act on what the passes show, and on nothing where that is not seen."""
    return {name for title, group in KEYS if title in _SEEN for name, _, _ in group} | _WALKED


class KeysPage(QDialog):
    """The page that lists the keys; in as many columns as it has room for."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self._scroll = QScrollArea(widgetResizable=True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._shown = 0
        layout = make_column(self, around=(24, 16, 24, 16))
        layout.addWidget(self._scroll)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        layout.addWidget(close, 0, Qt.AlignmentFlag.AlignRight)
        room = self.screen().availableGeometry()
        wanted = self._show_columns(room.width() - 40)
        self.resize(
            min(wanted.width() + self._around, room.width() - 40), min(wanted.height() + 84, room.height() - 60)
        )

    @property
    def _around(self) -> int:
        """What stands beside the keys."""
        return _MARGINS + self._scroll.verticalScrollBar().sizeHint().width()

    def _show_columns(self, width: int) -> QSize:
        """Show the keys in as many columns as fit into a page of some width; how large they are then."""
        made = {count: _columns(count) for count in _COLUMNS}
        fitting = (count for count, inner in made.items() if inner.sizeHint().width() + self._around <= width)
        count = next(fitting, _COLUMNS[-1])
        size = made[count].sizeHint()
        if count != self._shown:
            self._scroll.setWidget(made[count])
            self._shown = count
        return size

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._show_columns(self.width())


def _columns(count: int) -> QWidget:
    """All keys in so many columns, the longest groups first so that these are about as long as each other."""
    inner = named(QWidget(), "page")
    rows = grid(inner, 16, 0)
    row = [0] * count
    for title, group in sorted(KEYS, key=lambda one: -len(one[1])):
        side = row.index(min(row))
        if row[side]:
            rows.setRowMinimumHeight(row[side], 12)
            row[side] += 1
        rows.addWidget(Label(title, objectName="head"), row[side], 3 * side, 1, 2)
        row[side] += 1
        for _, keys, what in group:
            key, *others = keys.split(", ")
            what = f"{what} ({', '.join(others)} too)" if others else what
            text = "+".join(_SHOWN.get(part, part) for part in key.split("+")) if key[-1] != "+" else key
            rows.addWidget(Label(text, objectName="number"), row[side], 3 * side)
            rows.addWidget(Label(what), row[side], 3 * side + 1)
            row[side] += 1
    for side in range(1, count):
        rows.setColumnMinimumWidth(3 * side - 1, 12)
    rows.setRowStretch(max(row), 1)
    rows.setColumnStretch(3 * count - 2, 1)
    return inner


_COLUMNS, _MARGINS = (3, 2, 1), 56
_SEEN = ("Deciding marks", "Parts", "Looking")
_WALKED = {"next_phrase", "previous_phrase", "next_word", "previous_word", "aside"}
_SHOWN = {"Right": "→", "Left": "←", "Down": "↓", "Up": "↑"}
