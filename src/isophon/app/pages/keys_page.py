"""All keys in one place: what they are, what they do, and the page that lists them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QGridLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from isophon.app.sheets import PASSES

KEYS: tuple[tuple[str, tuple[tuple[str, str, str], ...]], ...] = (
    (
        "The loop of work",
        (
            ("next", "Right", "next mark"),
            ("previous", "Left", "previous mark"),
            ("next_over", "Shift+Right", "next mark over the ceiling"),
            ("previous_over", "Shift+Left", "previous mark over the ceiling"),
            ("more", "Down", "a little more change, by hand"),
            ("less", "Up", "a little less"),
            ("leave", "L", "leave as sung, or no longer"),
            ("forget", "Backspace", "back to the ceiling"),
            ("draw", "N", "make a mark of the selection"),
        ),
    ),
    (
        "Parts",
        (
            ("next_part", "Ctrl+Down", "the next part in hand"),
            ("previous_part", "Ctrl+Up", "the part before"),
            ("all_parts", "Ctrl+A", "all parts in hand"),
            ("done", "D", "this pass is done for the parts in hand"),
        ),
    ),
    (
        "Hearing",
        (
            ("play", "Space", "play or stop"),
            ("loop", "O", "loop the mark or the selection, or not"),
            ("compare", "C", "as sung, cleaned, taken out: the next"),
            ("", "S held", "as sung, for as long as it is held"),
            ("next_phrase", "PgDown", "the next phrase, looped"),
            ("previous_phrase", "PgUp", "the phrase before, looped"),
            ("next_word", "Shift+PgDown", "the next word, looped"),
            ("previous_word", "Shift+PgUp", "the word before, looped"),
            ("match", "M", "match the loudness, or not"),
            ("hear", "H", "alone, with the stack, with the bed: the next"),
            ("compare_all", "A", "compare all parts, or those in hand"),
            ("hear_only", "E", "hear only the part in hand in the mix, or not"),
            ("mute", "U", "mute the part in hand, or not"),
        ),
    ),
    (
        "Looking",
        (
            ("zoom_in", "+", "closer"),
            ("zoom_out", "-", "further away"),
            ("zoom_mark", "Z", "the mark in hand, close"),
            ("whole", "Home", "the whole song"),
            ("rank", "T", "skyline in time, or tallest first"),
            ("marker", "K", "name the place that is heard"),
            ("next_marker", "Ctrl+PgDown", "go to the next marker"),
            ("previous_marker", "Ctrl+PgUp", "go to the marker before"),
        ),
    ),
    (
        "The session",
        (
            ("undo", "Ctrl+Z", "undo"),
            ("redo", "Ctrl+Shift+Z", "redo"),
            ("save", "Ctrl+S", "save"),
            ("save_as", "Ctrl+Shift+S", "save under another name"),
            ("open", "Ctrl+O", "open a session, or add recordings"),
            ("history", "Ctrl+H", "the history of all steps"),
            ("lay_out", "1", "Lay out"),
            *((which.kind, str(i), which.name) for i, which in enumerate(PASSES, 2)),
            ("hand_over", str(len(PASSES) + 2), "Hand over"),
            ("keys", "F1", "this page"),
        ),
    ),
)


def key_of(action: str) -> str:
    """The key of an action."""
    return next(key for _, group in KEYS for name, key, _ in group if name == action)


class KeysPage(QDialog):
    """The page that lists the keys."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(28, 20, 28, 18)
        grid = QGridLayout(horizontalSpacing=18, verticalSpacing=5)
        layout.addLayout(grid)
        row = [0, 0]
        for title, group in KEYS:
            side = 0 if row[0] <= row[1] else 1
            if row[side]:
                grid.setRowMinimumHeight(row[side], 14)
                row[side] += 1
            grid.addWidget(QLabel(title, objectName="head"), row[side], 3 * side, 1, 2)
            row[side] += 1
            for _, key, what in group:
                shown = {"Right": "→", "Left": "←", "Down": "↓", "Up": "↑"}
                text = "+".join(shown.get(part, part) for part in key.split("+")) if key != "+" else "+"
                grid.addWidget(QLabel(text, objectName="number"), row[side], 3 * side)
                grid.addWidget(QLabel(what), row[side], 3 * side + 1)
                row[side] += 1
        grid.setColumnMinimumWidth(2, 24)
        close = QPushButton("Close")
        close.clicked.connect(self.accept)
        layout.addWidget(close, 0, Qt.AlignmentFlag.AlignRight)
