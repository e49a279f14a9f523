"""Recordings that come, are written anew and are replaced while a session is open; the demo opens with its lead."""

import shutil

import numpy as np
import pytest
import soundfile as sf
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QApplication

from conftest import write
from driving import all_found, opened, press
from isophon.app.model import demo_parts
from isophon.core.demo.cast import demo_folder
from isophon.core.session import file
from voices import spoken


def drop(widget, *paths):
    """Drop files on a widget, as a file manager would."""
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    at, left, none = QPoint(20, 10), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    QApplication.sendEvent(widget, QDragEnterEvent(at, Qt.DropAction.CopyAction, data, left, none))
    event = QDropEvent(QPointF(at), Qt.DropAction.CopyAction, data, left, none)
    QApplication.sendEvent(widget, event)
    return event.isAccepted()


@pytest.fixture
def two(window, qtbot, tmp_path):
    """A session of a lead and a double, every part found."""
    folder = tmp_path / "song"
    folder.mkdir()
    for name, voice in (("Lead.wav", "de"), ("Second double.wav", "es+f4")):
        write(folder / name, spoken(voice)[0], spoken(voice)[1])
    room = opened(window, folder, qtbot)
    all_found(room, qtbot)
    return room, folder


def test_the_demo_opens_with_its_lead_and_the_rest_comes_by_itself(window, demo, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(demo_parts, "_NICENESS", 0)  # other tests run beside this one
    folder = demo_folder()
    shutil.copytree(demo.parent, folder, ignore=shutil.ignore_patterns("Ad-libs*", "*.isophon", "*.json.lock"))
    window.open_demo()
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=60_000)
    room = window.work_page
    adlibs = room.workspace.session.parts[-1]
    assert "being synthesized" in room.workspace.pool.take(adlibs.source).trouble
    assert not room.views.message.text(), "nothing is wrong with it"
    room.workspace.select_part(adlibs.id)  # which is not there yet: the others come all the same
    qtbot.waitUntil(lambda: room.workspace.session.parts[-1].found, timeout=180_000)
    adlibs = room.workspace.session.parts[-1]
    assert not room.workspace.pool.take(adlibs.source).trouble and adlibs.marks
    assert adlibs.source == file.load(demo).parts[-1].source.__class__(
        str(folder / "Ad-libs.wav"), *[getattr(file.load(demo).parts[-1].source, n) for n in
                                       ("sample_rate", "channels", "frames", "time_reference")])  # fmt: skip


def test_a_missing_recording_is_opened_once_it_is_there(two, window, qtbot, tmp_path):
    room, folder = two
    assert room.workspace.keeper.save(tmp_path / "song.isophon")
    (folder / "Second double.wav").rename(tmp_path / "elsewhere.wav")
    room = opened(window, tmp_path / "song.isophon", qtbot)
    double = room.workspace.session.parts[1]
    assert room.workspace.pool.take(double.source).trouble
    (tmp_path / "elsewhere.wav").rename(folder / "Second double.wav")
    qtbot.waitUntil(lambda: not room.workspace.pool.take(double.source).trouble, timeout=10_000)


def test_a_recording_written_anew_is_told_and_taken_by_a_drop_with_its_decisions(two, qtbot):
    room, folder = two
    workspace = room.workspace
    mark = max(workspace.part.of_kind("ess"), key=lambda m: m.standout_db)
    workspace.select_marks([mark.id])
    press(room, Qt.Key.Key_Up, qtbot=qtbot)
    decided = workspace.part.changes[mark.id]
    samples, rate = sf.read(folder / "Lead.wav")
    later = round(0.5 * rate)
    write(folder / "Lead.wav", np.concatenate([np.zeros(later), 0.7 * samples]), rate)
    qtbot.waitUntil(lambda: "Lead.wav was written anew" in room.views.message.text(), timeout=10_000)
    assert drop(room.views.panel.rows["part-1"], folder / "Lead.wav")
    qtbot.waitUntil(lambda: "was replaced" in room.views.message.text(), timeout=20_000)
    all_found(room, qtbot)
    part = workspace.session.parts[0]
    moved = next(m for m in part.marks if m.id == mark.id)
    assert part.source.frames == len(samples) + later and part.offset_s == pytest.approx(-0.5, abs=0.004)
    assert moved.start == pytest.approx(mark.start + 0.5, abs=0.02)
    assert part.changes[mark.id] == decided and moved.hand.change_db is not None
    assert np.abs(workspace.take.recording.read(0, later)).max() == 0, "it is the new file that is heard"
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot=qtbot)
    assert workspace.session.parts[0].offset_s == 0.0


def test_another_song_and_a_file_of_the_session_are_told(two, qtbot, tmp_path):
    room, folder = two
    row = room.views.panel.rows["part-1"]
    before = room.workspace.session
    drop(row, folder / "Second double.wav")
    assert "in the session already, as Second double" in room.views.message.text()
    (tmp_path / "no.wav").write_bytes(b"RIFF")
    drop(row, tmp_path / "no.wav")
    qtbot.waitUntil(lambda: "nothing was replaced" in room.views.message.text(), timeout=10_000)
    assert room.workspace.session is before
    assert not drop(row, folder / "Lead.wav", folder / "Second double.wav"), "several are for the window"
    other = write(tmp_path / "other.wav", spoken("pt-br+f5")[0][::-1], spoken("pt-br+f5")[1])
    drop(row, other)
    qtbot.waitUntil(lambda: "another recording now" in room.views.message.text(), timeout=20_000)
    assert room.workspace.session.parts[0].source.path == str(other)
