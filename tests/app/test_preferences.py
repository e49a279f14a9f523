"""Preferences: each acts, is kept, and what cannot be read or written harms nothing."""

import os
import subprocess
import sys

from PySide6.QtCore import Qt

from driving import opened, press
from isophon.app.main import make_app
from isophon.app.model import glide
from isophon.app.model.appearance import appearance
from isophon.app.model.autosave import AutoSave
from isophon.app.model.preferences import Preferences, _read, prefer, preferences
from isophon.app.model.state import state_folder
from isophon.app.pages.preferences_page import PreferencesPage
from isophon.app.views.file_dialog import FileDialog
from isophon.core.session import file
from isophon.core.takes import cache


def shown(qtbot):
    make_app()
    page = PreferencesPage()
    qtbot.addWidget(page)
    page.show()
    qtbot.waitUntil(lambda: bool(page.taken.text()), timeout=10_000)
    return page


def choose(box, words):
    row = box.findText(words)
    box.setCurrentIndex(row)
    box.activated.emit(row)


def test_each_choice_is_kept_and_acts(qtbot, monkeypatch):
    page = shown(qtbot)
    assert preferences() == Preferences()
    choose(page.type_size, "Larger")
    choose(page.workers, "3")
    qtbot.mouseClick(page.motion, Qt.MouseButton.LeftButton)
    choose(page.look, "Dusk")
    assert preferences() == Preferences("larger", motion=False, workers=3) and appearance().look == "dusk"
    appearance().choose("desktop")
    monkeypatch.setattr(glide, "LONGEST_MS", 120)
    moving, seen = glide.Glide(), []
    moving.moved.connect(lambda start, end: seen.append((start, end)))
    moving.begin((0.0, 1.0), (4.0, 5.0))
    assert seen == [(4.0, 5.0)], "at once"
    code = "from isophon.app.main import make_app; from isophon.app import theme; make_app(); print(theme.larger())"
    environment = {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}
    done = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True)
    assert done.stdout.strip() == "1.5", "from the next start on"
    again = shown(qtbot)
    assert (again.type_size.currentText(), again.workers.currentText()) == ("Larger", "3")
    assert not again.motion.isChecked()


def test_a_session_with_a_file_is_saved_by_itself(window, demo_take, qtbot, tmp_path):
    now = [0.0]
    workspace = opened(window, demo_take, qtbot).workspace
    saving, keeper = AutoSave(workspace.keeper, lambda: now[0]), workspace.keeper
    prefer(save_every_min=5)
    workspace.settings.set_setting("ceiling_db", -7.0)
    now[0] = 1_000.0
    saving.look()
    assert keeper.saved_as is None and keeper.unsaved, "a session without a file is not"
    assert keeper.save(tmp_path / "song.isophon")
    workspace.settings.set_setting("ceiling_db", -8.0)
    now[0] += 299.0
    saving.look()
    assert keeper.unsaved
    now[0] += 2.0
    saving.look()
    assert not keeper.unsaved and file.load(tmp_path / "song.isophon").parts[0].ess.ceiling_db == -8.0
    others = (tmp_path / "song.isophon").read_text() + "\n"
    (tmp_path / "song.isophon").write_text(others)
    workspace.settings.set_setting("ceiling_db", -8.5)
    for _ in range(3):
        now[0] += 1_000.0
        saving.look()
    assert (tmp_path / "song.isophon").read_text() == others, "what something else wrote stays"
    prefer(save_every_min=0)
    workspace.settings.set_setting("ceiling_db", -9.0)
    now[0] += 10_000.0
    saving.look()
    assert keeper.unsaved, "never means never"


def test_folders_and_room_are_kept_and_used(window, demo_take, qtbot, tmp_path, monkeypatch):
    page = shown(qtbot)
    folders = iter([tmp_path / "in", tmp_path / "out"])
    monkeypatch.setattr("isophon.app.views.folder_choice.folder_to_use", lambda *_: next(folders))
    (tmp_path / "in").mkdir()
    for choice in (page.recordings, page.stems):
        qtbot.mouseClick(choice.ask, Qt.MouseButton.LeftButton)
    choose(page.room, "up to 2 GB")
    monkeypatch.setattr(FileDialog, "_last", None)
    dialog = FileDialog(page, "Open", None)
    assert dialog.directory().absolutePath() == str(tmp_path / "in")
    room = opened(window, demo_take, qtbot)
    assert room.views.hand_over.form.folder.text() == str(tmp_path / "out")
    assert os.environ[cache.ROOM_IN] == "2" and cache._room() == 2 << 30
    monkeypatch.setenv(cache.ROOM_IN, "much")
    assert cache._room() == Preferences().measurements_gb << 30
    qtbot.mouseClick(page.stems.clear, Qt.MouseButton.LeftButton)
    assert preferences().stems == "" and preferences().recordings == str(tmp_path / "in")


def test_what_cannot_be_read_is_as_usual_and_what_cannot_be_written_is_said(qtbot, monkeypatch):
    state_folder().mkdir(parents=True, exist_ok=True)
    path = state_folder() / "preferences.json"
    for text in ("", "{", "[]", '{"workers": 900}', '{"type_size": "huge"}', "[" * 5_000):
        path.write_text(text)
        _read.cache_clear()
        assert preferences() == Preferences(), text[:20]
    prefer(workers=2)
    assert preferences().workers == 2
    path.unlink()
    path.mkdir()
    page = shown(qtbot)
    choose(page.workers, "4")
    assert "not kept" in page.trouble.text() and "preferences.json" in page.trouble.text()


def test_measurements_are_told_and_deleted_and_nothing_else_is(qtbot, monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    with cache.written_whole(cache.folder() / "0123" / "scan") as folder:
        (folder / "levels").write_bytes(bytes(3_000_000))
    other = cache.folder() / "mine" / "notes.txt"
    other.parent.mkdir()
    other.write_text("keep")
    page = shown(qtbot)
    assert page.taken.text() == "3 MB"
    qtbot.mouseClick(page.clear, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.taken.text() == "0 MB", timeout=10_000)
    assert other.read_text() == "keep" and not (cache.folder() / "0123").exists(), "what is not ours stays"


def test_the_output_is_chosen_from_here_once_a_session_is_open(window, demo_take, qtbot):
    assert not shown(qtbot).output.isEnabled()
    room = opened(window, demo_take, qtbot)
    press(room, Qt.Key.Key_Comma, Qt.KeyboardModifier.ControlModifier, qtbot=qtbot)
    page = room.findChild(PreferencesPage)
    choose(page.language, "Deutsch")
    assert preferences().language == "de"
    qtbot.mouseClick(page.output, Qt.MouseButton.LeftButton)
    assert room.views.transport.output_panel.isVisible() and not page.isVisible()
