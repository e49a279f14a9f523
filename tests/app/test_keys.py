"""Keys that a person changes: they act at once, stand wherever they are named, and never do two things."""

import json

import pytest
from PySide6.QtCore import Qt

from driving import opened, press
from isophon.app.model import preferences
from isophon.app.model.keys import KeyBook, key_book, keyed
from isophon.app.model.preferences import prefer
from isophon.app.model.state import state_folder
from isophon.app.pages.keys_page import KeysPage
from isophon.core.errors import CallError

SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


@pytest.fixture(autouse=True)
def usual_keys():
    """Keys are as usual before and after each test."""
    key_book().take_back()
    yield
    key_book().take_back()


@pytest.fixture
def room(window, demo, qtbot):
    return opened(window, demo, qtbot)


def change(page, qtbot, action, key, modifiers=Qt.KeyboardModifier.NoModifier):
    button = page.buttons[action]
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    assert button.text() == "press a key"
    qtbot.keyClick(button, key, modifiers)


def test_a_changed_key_acts_at_once_and_is_named_everywhere(room, qtbot):
    page = KeysPage(room)
    page.open()
    change(page, qtbot, "loop", Qt.Key.Key_J)
    assert page.buttons["loop"].text() == "J" and page.usual.isEnabled()
    page.accept()
    loops = room.views.transport.loop.isChecked()
    press(room, Qt.Key.Key_O, qtbot=qtbot)
    assert room.views.transport.loop.isChecked() == loops, "its key before does nothing any more"
    press(room, Qt.Key.Key_J, qtbot=qtbot)
    assert room.views.transport.loop.isChecked() != loops
    assert room.views.transport.loop.toolTip().endswith("(J)")
    assert json.loads((state_folder() / "preferences.json").read_text())["keys"] == {"loop": "J"}
    assert KeyBook().key("loop") == "J", "the next time, too"


def test_a_key_in_use_is_told_and_not_taken(room, qtbot):
    page = KeysPage(room)
    page.open()
    change(page, qtbot, "loop", Qt.Key.Key_Z)
    assert "Z is in use: zoom to the selected time" in page.said.text()
    assert page.buttons["loop"].text() == "O" and not page.usual.isEnabled()
    change(page, qtbot, "loop", Qt.Key.Key_B, CTRL)
    assert "in use" in page.said.text(), "Ctrl and the key of the band are held together"
    change(page, qtbot, "zoom_mark", Qt.Key.Key_J, CTRL | SHIFT)
    change(page, qtbot, "loop", Qt.Key.Key_Z)
    assert page.buttons["loop"].text() == "Z"
    change(page, qtbot, "zoom_mark", Qt.Key.Key_Backspace)
    assert "Z is in use: loop" in page.said.text() and page.buttons["zoom_mark"].text() == "Ctrl+Shift+J"
    change(page, qtbot, "loop", Qt.Key.Key_Escape)
    assert page.buttons["loop"].text() == "Z"
    qtbot.mouseClick(page.usual, Qt.MouseButton.LeftButton)
    assert (page.buttons["loop"].text(), page.buttons["zoom_mark"].text()) == ("O", "Z")


def test_keys_that_are_held_can_be_changed_too(room, qtbot):
    with pytest.raises(CallError, match="cannot be held"):
        key_book().choose("as_sung_held", "Ctrl+J")
    key_book().choose("as_sung_held", "J")
    qtbot.keyPress(room, Qt.Key.Key_J)
    shown = room.views.transport.compare
    assert shown.checkedButton().text() == "as sung"
    qtbot.keyRelease(room, Qt.Key.Key_J)
    assert shown.checkedButton().text() == "cleaned"


def test_what_a_file_says_is_taken_only_where_it_can_be():
    book = KeyBook()
    prefer(keys={"loop": "Z", "play": "no such key at all", "nothing": "J", "save": "", "undo": "Ctrl+K, Ctrl+J"})
    assert KeyBook().groups == book.groups, "Z is in use, the others are no keys"
    prefer(keys={"loop": "Z", "zoom_mark": "O"})
    swapped = KeyBook()
    assert (swapped.key("loop"), swapped.key("zoom_mark")) == ("O", "Z"), "each waits for the other"
    prefer(keys={"loop": "Z", "zoom_mark": "J"})
    assert (KeyBook().key("loop"), KeyBook().key("zoom_mark")) == ("Z", "J")
    (state_folder() / "preferences.json").write_text('{"keys": {"loop": 7}}')
    preferences._read.cache_clear()
    assert KeyBook().groups == book.groups


def test_words_name_the_keys_in_force():
    assert keyed("{next}: next mark, {same_there}") == "→: next mark, Ctrl+Return"
    assert keyed("a {name} in braces") == "a {name} in braces"
