"""What a stranger's session cannot do to the window: act, grow, freeze; and what it holds beyond measure is told."""

import json
import os
import random
import time

import pytest
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QHelpEvent
from PySide6.QtWidgets import QApplication, QLabel, QToolTip, QWidget

from conftest import COUNT, write
from driving import key, opened, press
from isophon.app.views.labels import Label
from isophon.cli import main
from isophon.core.audio.files import Recording
from isophon.core.finding import find_all, survey_recording
from isophon.core.log import log_path
from isophon.core.ranges import MOST_MARKERS, MOST_MARKS
from isophon.core.session import adopting, file, layout
from isophon.core.session.items import Source
from mutating import bytes_changed, value_changed
from voices import spoken

CASES = 6 if COUNT <= 120 else 200
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
    assert room.views.message.text() == f"{name} was read"
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
        session["markers"] = [{"id": f"m{i}", "at": i / 3000, "name": "long " * 50} for i in range(3_000)]
        marks = [mark | {"id": f"e{i}", "start": i / 50_000, "end": i / 50_000 + 0.1} for i in range(60_000)]
        session["parts"][0] |= {"found": True, "voice_lufs": -20, "floor_dbfs": -60, "marks": marks}

    path = strange(change)
    before = path.read_bytes()
    room = opened(window, path, qtbot)
    session = room.workspace.session
    assert len(session.markers) == MOST_MARKERS and len(session.parts[0].marks) == MOST_MARKS
    assert f"of 3000 markers of the song the first {MOST_MARKERS} were read" in room.views.message.text()
    assert "under another name" in room.views.message.text() and room.workspace.keeper.saved_as is None
    began = time.monotonic()
    for pressed in (Qt.Key.Key_Plus, Qt.Key.Key_Right, Qt.Key.Key_Minus):
        press(room, pressed, qtbot=qtbot)
        QApplication.processEvents()
    assert time.monotonic() - began < 5, "it can be worked in"
    capsys.readouterr()
    assert main(["find", str(path), "--quiet"]) == 0
    assert f"of 60000 marks of take the first {MOST_MARKS} were read" in capsys.readouterr().err
    assert path.read_bytes() == before


def test_changed_sessions_are_opened_and_handed_over_or_refused(strange, window, qtbot, tmp_path):
    """Whatever stands in them, each is told in words or worked on to the end, and nothing of it is an error inside."""
    path = strange(lambda session: session["markers"].append({"id": "m1", "at": 1.0, "name": "Chorus"}))
    with Recording(tmp_path / "take.wav") as recording:
        survey = survey_recording(recording)
        found = find_all(recording, survey)
        source = layout.source_of(recording)
    findings = adopting.Findings(source, found.marks, survey.voice_lufs, survey.floor_dbfs, found.measured)
    file.save(adopting.adopt_findings(file.load(path), "part-1", findings), path)
    whole, rng, done = path.read_text(), random.Random(5), 0
    for i in range(CASES):
        path = tmp_path / f"case{i}.isophon"
        path.write_bytes(bytes_changed(rng, whole.encode()) if i % 5 == 4 else value_changed(rng, whole).encode())
        before, began = window.work_page, time.monotonic()
        window.message.clear()
        if before is not None:
            before.views.message.clear()
        window.open_path(path)

        def arrived(before=before):
            refused = window.message.text() or (before is not None and before.views.message.text())
            return window._job is None and bool(window.work_page is not before or refused)

        qtbot.waitUntil(arrived, timeout=30_000)
        if window.work_page is before:
            continue
        room = window.work_page
        page, out = room.views.hand_over, tmp_path / f"out{i}"
        press(room, key("Hand over"), qtbot=qtbot)
        page.form.folder.setText(str(out))
        if page.write.isEnabled():
            qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
            qtbot.waitUntil(lambda page=page: not page._tasks, timeout=60_000)
            done += bool(list(out.glob("*.wav")))
        assert time.monotonic() - began < 60, path
        assert {p.parent for p in tmp_path.rglob("*.clean.wav")} <= {tmp_path / f"out{n}" for n in range(CASES)}
    assert done > CASES / 4
    told = log_path().read_text() if log_path().exists() else ""
    assert "an error inside" not in told, told[-2_000:]
