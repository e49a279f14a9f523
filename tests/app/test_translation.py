"""The window in another language: every text that is shown has one, fits where it stands, and files stay English."""

import re
import time

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QCheckBox, QPushButton, QWidget

from driving import all_found, key, opened, press
from isophon.app import translation
from isophon.app.main import make_app
from isophon.app.model.manual import chapters
from isophon.app.model.passes import Pass
from isophon.app.pages.keys_page import KeysPage
from isophon.app.pages.preferences_page import PreferencesPage
from isophon.app.pages.route import STATIONS
from isophon.app.sheets import PASSES
from isophon.app.translation import catalogue, tr, use_language
from isophon.app.window import Window
from isophon.core.session import file

PLACES = re.compile(r"\{(\d)")
ENGLISH = re.compile(r"\b(the|of|and|from|over|is|to|not|at|by|this|no|here|with|are|was|your|that|has|have)\b", re.I)


@pytest.fixture
def german():
    app = make_app()
    use_language(app, "de")
    yield app
    use_language(app, "en")


def lacks_room(button):
    words = button.text().replace("&", "")
    return bool(words) and button.fontMetrics().horizontalAdvance(words) + 4 > button.width()


def test_all_that_is_shown_is_translated_and_fits_into_a_small_window(german, demo, qtbot, tmp_path, monkeypatch):
    """Each station with a mark selected, tips and names for screen readers too; then keys and preferences."""
    left, shown, translated = set(), set(), translation._Catalogue.translated

    def noted(self, words, deep=0):
        out = translated(self, words, deep)
        if deep == 0 and out == words and words not in shown:  # what was translated before it came here is no news
            left.add(words)
        elif out != words:
            shown.add(out)
        return out

    monkeypatch.setattr(translation._Catalogue, "translated", noted)
    file.save(file.load(demo), tmp_path / "song.isophon")
    window = Window()
    qtbot.addWidget(window)
    window.resize(1024, 640)
    window.show()
    room = opened(window, tmp_path / "song.isophon", qtbot)
    all_found(room, qtbot)
    cut_off, buttons = [], 0
    for at in range(len(STATIONS)):
        room.open_station(at)
        marks = room.workspace.marks
        if marks:
            room.workspace.select_marks([marks[len(marks) // 2].id])
        QApplication.processEvents()
        window.grab()
        seen = [one for kind in (QPushButton, QCheckBox) for one in window.findChildren(kind) if one.isVisible()]
        buttons += len(seen)
        cut_off += [(STATIONS[at], one.text()) for one in seen if lacks_room(one)]
        for widget in window.findChildren(QWidget):
            if widget.toolTip():
                tr(widget.toolTip())
    for page in (PreferencesPage(window), KeysPage(window)):
        page.show()
        page.grab()
        page.close()
    english = {words for words in left if ENGLISH.search(words)}
    assert not english, f"shown in English: {sorted(english)}"
    assert not cut_off and buttons > 200, f"cut off: {cut_off}"
    assert room.views.title.undo.text() == "Rückgängig" and window.work_page.views.lens.good.text() == "Annehmen"
    press(room, key("Esses"), qtbot=qtbot)
    room.workspace.select_marks([room.workspace.marks[0].id])
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert room.workspace.keeper.history.undo_name.startswith("leave · Lead"), "what goes into files stays English"
    window.close()


def test_texts_with_values_are_recognised(german):
    assert (
        tr("take.wav: is empty (0 bytes); copy it again from its source")
        == "take.wav: ist leer (0 Bytes); kopieren Sie es neu"
    )
    assert tr("12 esses that cannot be heard in the mix are accepted as proposed.").startswith("12 S-Laute, die im Mix")
    assert tr("Lead was replaced; what you decided is kept, and marks are found again.").startswith(
        "Lead wurde ersetzt"
    )
    assert tr("but for 1 line at its end that could not be read") != tr(
        "but for 2 lines at its end that could not be read"
    )
    long = "a, b: c; now " * 400
    began = time.monotonic()
    assert tr(f"{long}: is empty (0 bytes); copy it again from its source").endswith("kopieren Sie es neu")
    tr(long), tr(long + ", now ")
    assert time.monotonic() - began < 5, "whatever a file is called"
    for which in (one for one in PASSES if isinstance(one, Pass)):
        height = f"+6.0 {which.unit} {which.words.over}"
        assert tr(height) != height, "how far a mark stands out"
    assert tr("Nobody has translated this line") == "Nobody has translated this line"
    use_language(german, "en")
    assert tr("Undo") == "Undo" and tr("accept · Lead") == "accept · Lead"


def test_a_catalogue_says_nothing_that_is_not_there():
    """Every value in a translation is one of the English text; no text is empty; spaces at the ends are the same."""
    texts, keys = catalogue("de")
    for english, other in texts.items():
        assert other and set(PLACES.findall(other)) <= set(PLACES.findall(english)), english
        assert (english[:1] == " ", english[-1:] == " ") == (other[:1] == " ", other[-1:] == " "), english
    assert len(texts) > 1_400 and keys["Shift"] == "Umschalt"
    spoken_of = {which.name for which in PASSES if isinstance(which, Pass)} | {which.words.many for which in PASSES}
    assert spoken_of <= set(texts), "every pass has a name"


def test_the_first_chapter_of_the_manual_is_there_in_german(german):
    first, second, *_ = chapters(())
    assert first.name == "Das Fenster" and first.has("Obergrenze") and second.name != "Das Fenster"
