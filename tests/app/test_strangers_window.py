"""What a stranger's session cannot do to the window: act, grow, freeze; and what it holds beyond measure is told."""

import json
import os
import time

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QApplication, QLabel, QToolTip, QWidget

from conftest import write
from driving import key, opened, press
from isophon.app.views.labels import Label
from isophon.cli import main
from isophon.core.ranges import MOST_MARKERS, MOST_MARKS
from isophon.core.session import file, layout
from isophon.core.session.model import Source
from voices import spoken

MARKUP = "<img src='{}'><b>bold</b>"


@pytest.fixture
def strange(tmp_path):
    """Makes a session whose values were changed by hand, beside a recording that is whole."""
    samples, rate, _ = spoken("de")
    take = write(tmp_path / "take.wav", samples[: 4 * rate], rate, "PCM_16")
    source = Source(str(take), rate, 1, 4 * rate)
    path = tmp_path / "song.isophon"
    file.save(layout.new_session("song", [layout.Arrival("take", source)]), path)

    def make(change):
        values = json.loads(path.read_text())
        change(values["session"])
        path.write_text(json.dumps(values))
        return path

    return make


def test_markup_in_names_is_shown_as_it_is_written(strange, window, qtbot, tmp_path):
    """An image that is a pipe would be waited for without end."""
    os.mkfifo(tmp_path / "pipe")
    name = MARKUP.format(tmp_path / "pipe")

    def change(session):
        session["name"] = session["parts"][0]["name"] = session["parts"][0]["singer"] = name
        session["markers"] = [{"id": "m1", "at": 1.0, "name": name}]

    room = opened(window, strange(change), qtbot)
    for station in ("Lay out", "Esses", "Bands", "Hand over"):
        press(room, key(station), qtbot=qtbot)
        qtbot.wait(50)
    room.tell(f"{name} was read")
    assert room.message.text() == f"{name} was read"
    labels = window.findChildren(QLabel)
    assert len(labels) > 30 and all(label.textFormat() == Qt.TextFormat.PlainText for label in labels)
    tip = QWidget(window)
    tip.setToolTip(name)
    QApplication.sendEvent(tip, QHelpEvent(QEvent.Type.ToolTip, QPoint(1, 1), window.mapToGlobal(QPoint(1, 1))))
    assert "&lt;img" in QToolTip.text() and "<img" not in QToolTip.text()


def test_long_names_and_words_without_a_break_make_nothing_wider(strange, window, qtbot):
    def change(session):
        parts = [session["parts"][0] | {"id": f"part-{i + 1}", "name": letter * 300, "singer": letter * 300}
                 for i, letter in enumerate("WΩ<")]  # fmt: skip
        session |= {"name": "W" * 300, "parts": parts, "markers": [{"id": "m1", "at": 1.0, "name": "x" * 300}]}

    room = opened(window, strange(change), qtbot)
    room.tell("y" * 8_193)
    for station in ("Lay out", "Floor", "Bleed", "Line-up", "Hand over"):
        press(room, key(station), qtbot=qtbot)
        qtbot.wait(50)
        assert window.minimumSizeHint().width() <= 1024, station
    label = Label("z" * 8_193, wordWrap=True)
    assert label.minimumSizeHint().width() < 1024 and label.text() == "z" * 8_193


def test_more_markers_and_marks_than_a_session_can_have_are_told_and_left(strange, window, qtbot, capsys):
    mark = {"kind": "ess", "level_db": -20, "standout_db": 1, "low_hz": 4000, "high_hz": 9000, "confidence": 0.9}

    def change(session):
        session["markers"] = [{"id": f"m{i}", "at": i / 3000, "name": "long " * 50} for i in range(10_000)]
        marks = [mark | {"id": f"e{i}", "start": i / 50_000, "end": i / 50_000 + 0.1} for i in range(100_000)]
        session["parts"][0] |= {"found": True, "voice_lufs": -20, "floor_dbfs": -60, "marks": marks}

    path = strange(change)
    before = path.read_bytes()
    room = opened(window, path, qtbot)
    session = room.workspace.session
    assert len(session.markers) == MOST_MARKERS and len(session.parts[0].marks) == MOST_MARKS
    assert f"of 10000 markers of the song the first {MOST_MARKERS} were read" in room.message.text()
    assert "under another name" in room.message.text() and room.workspace.keeper.saved_as is None
    began = time.monotonic()
    for pressed in (Qt.Key.Key_Plus, Qt.Key.Key_Right, Qt.Key.Key_Minus):
        press(room, pressed, qtbot=qtbot)
        QApplication.processEvents()
    assert time.monotonic() - began < 5, "it can be worked in"
    capsys.readouterr()
    assert main(["find", str(path), "--quiet"]) == 0
    assert f"of 100000 marks of take the first {MOST_MARKS} were read" in capsys.readouterr().err
    assert path.read_bytes() == before
