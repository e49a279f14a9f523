"""All keys in one place: what they are, what they do, and which of them a person has changed."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from functools import lru_cache

from PySide6.QtCore import QKeyCombination, QObject, Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QWidget

from isophon.app.model.preferences import prefer, preferences
from isophon.app.translation import tr, tr_key
from isophon.core.errors import CallError
from isophon.core.ranges import LETTERS

Row = tuple[str, str, str]  # the name of an action, its keys, what it does
Groups = tuple[tuple[str, tuple[Row, ...]], ...]

_USUAL: Groups = (
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
            ("as_sung_held", "S", "as sung, while it is held"),
            ("band_held", "B", "the band of the selected mark alone, while it is held"),
            ("", "Ctrl+{band_held} held", "all but that band, while it is held"),
            ("", "Shift+{band_held} held", "the band that the rule of the esses listens to, while it is held"),
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
            *(
                (f"version_{letter}", f"Ctrl+{i}", f"version {letter} of all parts")
                for i, letter in enumerate(LETTERS, 1)
            ),
            *(
                (f"from_{letter}", f"Ctrl+Alt+{i}", f"the selected parts as in version {letter}")
                for i, letter in enumerate(LETTERS, 1)
            ),
            ("preferences", "Ctrl+,", "preferences: look, type, motion, processes, what is kept"),
            ("help", "F1", "the manual, at what is open"),
            ("keys", "Shift+F1", "all keys on one page"),
        ),
    ),
)
HELD = ("as_sung_held", "band_held")  # they act while they are down, with Ctrl and Shift in ways of their own
_LAST_GROUP = _USUAL[-1][0]
_NAMED = re.compile(r"\{(\w+)\}")
_OWN = ("Tab", "Shift+Tab", "Backtab")  # they walk through the window
_SHOWN = {"Right": "→", "Left": "←", "Down": "↓", "Up": "↑"}


class KeyBook(QObject):
    """The keys in force: the usual ones, but for those that a person has changed."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._usual: Groups = _USUAL
        self._keys: dict[str, str] = {}
        self._read()

    def add(self, rows: Iterable[Row]) -> None:
        """Actions that are known later: one for each station."""
        self._usual = (*self._usual[:-1], (_LAST_GROUP, (*self._usual[-1][1], *rows)))
        self._read()

    def _read(self) -> None:
        """Take over what a person has changed, but for what would give one key two actions."""
        usual = self.usual
        self._keys = dict(usual)
        wanted = {action: key for action, key in preferences().keys.items() if action in usual and is_key(key)}
        for _ in wanted:  # one may need a key that another gives up
            for action, key in wanted.items():
                if self._other_use(action, key) is None:
                    self._keys[action] = key

    @property
    def usual(self) -> dict[str, str]:
        """The usual keys by action."""
        return {action: keys for _, rows in self._usual for action, keys, _ in rows if action}

    @property
    def groups(self) -> Groups:
        """All groups of keys as they are in force."""
        return tuple(
            (title, tuple((action, self._keys.get(action, keyed(keys, self)), what) for action, keys, what in rows))
            for title, rows in self._usual
        )

    def key(self, action: str) -> str:
        """The first key of an action, as Qt spells it."""
        return self._keys[action].split(", ")[0]

    def keys_of(self, action: str) -> list[str]:
        """All keys of an action; that of the number pad too, where there is a second one."""
        return _with_number_pad(self._keys[action].split(", "))

    def is_changed(self, action: str) -> bool:
        """Whether an action has another key than usual."""
        return self._keys[action] != self.usual[action]

    def choose(self, action: str, key: str) -> None:
        """Give an action a key, which is kept. CallError says what else it does, or why it cannot be used."""
        if not is_key(key) or key in _OWN:
            raise CallError(f"{shown_key(key)} cannot be used; press another one")
        if action in HELD and "+" in key[:-1]:
            raise CallError(f"{shown_key(key)} cannot be held; press a key without Ctrl, Alt and Shift")
        other = self._other_use(action, key)
        if other is not None:
            raise CallError(f"{shown_key(key)} is in use: {other}; give that another key first")
        self._keep({**preferences().keys, action: key})

    def take_back(self, action: str | None = None) -> None:
        """Give one action, or all, the usual keys. CallError where one of these does something else by now."""
        if action is None:
            self._keep({})
            return
        for key in self.usual[action].split(", "):
            other = self._other_use(action, key)
            if other is not None:
                raise CallError(f"{shown_key(key)} is in use: {other}; give that another key first")
        self._keep({name: key for name, key in preferences().keys.items() if name != action})

    def _keep(self, keys: dict[str, str]) -> None:
        prefer(keys={name: key for name, key in keys.items() if self.usual.get(name) != key})
        self._read()
        self.changed.emit()

    def _other_use(self, action: str, key: str) -> str | None:
        """What else a key does; None: nothing."""
        words = {name: what for _, rows in self._usual for name, _, what in rows}
        wanted = _sequences(action, key)
        others = (name for name, keys in self._keys.items() if name != action and wanted & _sequences(name, keys))
        return next((words[name] for name in others), None)


def _with_number_pad(keys: list[str]) -> list[str]:
    return [*keys, *(key.replace("Return", "Enter") for key in keys if "Return" in key)]


def _sequences(action: str, keys: str) -> set[str]:
    """The keys of an action, with what else is held with them, each in one spelling."""
    spelled = [keys, f"Ctrl+{keys}", f"Shift+{keys}"] if action == "band_held" else _with_number_pad(keys.split(", "))
    return {QKeySequence(key).toString(QKeySequence.SequenceFormat.PortableText) for key in spelled}


def is_key(text: str) -> bool:
    """Whether a text spells one key, with or without Ctrl, Alt and Shift."""
    return QKeySequence(text).count() == 1 and key_code(text) not in (Qt.Key.Key_unknown, Qt.Key(0))


def key_code(text: str) -> Qt.Key:
    """The key itself, without what is held with it."""
    combination: QKeyCombination = QKeySequence(text)[0]  # type: ignore[index]  # not known to its stubs
    return combination.key()


@lru_cache(maxsize=1)
def key_book() -> KeyBook:
    """The keys of this program."""
    return KeyBook()


def shown_key(key: str) -> str:
    """A key as people read it."""
    return "+".join(tr_key(_SHOWN.get(part, part)) for part in key.split("+")) if key[-1:] != "+" else key


def keyed(words: str, book: KeyBook | None = None) -> str:
    """Words with the keys of the actions that stand in braces in them: ``{play}`` becomes ``Space``."""
    keys = book or key_book()
    return _NAMED.sub(lambda found: shown_key(keys.key(found[1])) if found[1] in keys.usual else found[0], words)


class KeyWords(QObject):
    """Words of a widget or an action that name keys, and go on naming those in force. ``show(words)`` shows them."""

    def __init__(self, owner: QObject, words: str, show: Callable[[str], object]) -> None:
        super().__init__(owner)
        self._words, self._show = words, show
        key_book().changed.connect(self._name)
        self._name()

    def _name(self) -> None:
        self._show(tr(keyed(self._words)))


def key_tip(widget: QWidget, words: str) -> None:
    """Give a widget a tip that names keys."""
    KeyWords(widget, words, widget.setToolTip)


class KeyShortcut(QShortcut):
    """Acts on the key of an action, whichever that is, while its widget has the focus."""

    def __init__(self, widget: QWidget, action: str) -> None:
        super().__init__(QKeySequence(), widget, context=Qt.ShortcutContext.WidgetWithChildrenShortcut)
        self._action = action
        key_book().changed.connect(self._take_key)
        self._take_key()

    def _take_key(self) -> None:
        self.setKey(QKeySequence(key_book().key(self._action)))
