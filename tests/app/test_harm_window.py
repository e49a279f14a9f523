"""The window when things go wrong: full disks, two windows, signals, files that change, long or senseless marks."""

import gc
import os
import signal
import subprocess
import sys
import threading
import time
import weakref
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
import shiboken6
import soundfile as sf
from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QTableWidget

from conftest import write
from driving import key, opened, press
from isophon.app.model.jobs import Job
from isophon.app.model.state import unsaved_work
from isophon.app.sheets import PASSES
from isophon.app.unexpected import Unexpected
from isophon.app.views import close_up as close_up_module
from isophon.app.views.close_up import CloseUp, Wanted
from isophon.app.window import Window
from isophon.core.log import log_path
from isophon.core.session import edits, file
from isophon.core.session.items import Source
from voices import spoken

SRC = Path(__file__).parent.parent.parent / "src"


@pytest.fixture
def take_room(window, tmp_path, qtbot):
    """The work_page on one spoken take, with no file of its own yet."""
    samples, rate, _ = spoken("de")
    return opened(window, write(tmp_path / "take.wav", samples, rate), qtbot)


def test_a_second_window_gets_a_copy_and_the_first_loses_nothing(window, room, qtbot):
    path = room.workspace.keeper.saved_as
    other = Window()
    qtbot.addWidget(other)
    again = opened(other, path, qtbot)
    assert "open in another window" in again.views.message.text() and again.workspace.keeper.saved_as is None
    again.workspace.settings.set_setting("ceiling_db", -20.0)
    room.workspace.settings.set_setting("ceiling_db", -7.0)
    assert not again.workspace.keeper.save(path) and "open in another window" in again.views.message.text()
    assert room.workspace.keeper.save(path) and file.load(path).parts[0].ess.ceiling_db == -7.0
    other.close()
    room.workspace.settings.set_setting("ceiling_db", -8.0)
    room.workspace.keeper.settle()
    assert [name for name, _ in unsaved_work()] == ["Glasshouse Starlings"]  # the copy's
    third = Window()
    qtbot.addWidget(third)
    window.close()
    assert opened(third, path, qtbot).workspace.keeper.saved_as == path
    assert "newer work" in third.work_page.views.message.text()
    third.close()


def test_a_window_closed_while_its_page_is_built_leaves_nothing_behind(window, demo, tmp_path, qtbot):
    """The page is built in several turns; in one of them the window is closed."""
    path, turns = tmp_path / "song.isophon", []
    file.save(file.load(demo), path)
    window._next_turn.timeout.connect(lambda: turns.append(window.work_page) or (len(turns) == 5 and window.close()))
    window.open_path(path)
    qtbot.waitUntil(lambda: len(turns) >= 5 and not window._next_turn.isActive(), timeout=90_000)
    assert set(turns) == {None} and not window.isVisible() and unsaved_work() == []
    other = Window()
    qtbot.addWidget(other)
    assert opened(other, path, qtbot).workspace.keeper.saved_as == path, "nobody holds the session any more"
    other.close()


def test_a_file_that_changed_meanwhile_is_not_written_over_unasked(room):
    keeper, path = room.workspace.keeper, room.workspace.keeper.saved_as
    theirs = edits.set_setting(file.load(path), ["part-1"], "ess", "ceiling_db", -20.0)
    file.save(theirs, path)
    room.workspace.settings.set_setting("ceiling_db", -7.0)
    assert not keeper.save(path) and "was changed by something else" in room.views.message.text()
    assert file.load(path).parts[0].ess.ceiling_db == -20.0
    assert keeper.save(path) and file.load(path).parts[0].ess.ceiling_db == -7.0
    other = path.with_name("second mix.isophon")
    assert keeper.save(other) and keeper.session.name == "second mix" and room.views.title.name.text() == "second mix"
    room.workspace.undo()
    assert keeper.session.name == "second mix" and keeper.session.parts[0].ess.ceiling_db == 0.0


def test_a_full_disk_is_told_and_the_journal_goes_on_by_itself(window, room, qtbot, monkeypatch):
    workspace, real, full = room.workspace, os.fsync, [True]

    def fsync(handle):
        if full[0]:
            raise OSError(28, "No space left on device")
        real(handle)

    monkeypatch.setattr(os, "fsync", fsync)
    workspace.settings.set_setting("ceiling_db", -7.0)
    workspace.keeper.settle()
    qtbot.waitUntil(lambda: "No space left" in room.views.message.text(), timeout=5_000)
    assert room.views.title.state.shown().startswith("NOT KEPT")
    workspace.settings.set_setting("ceiling_db", -8.0)
    window.close()
    assert window.isVisible() and "closing now loses" in room.views.message.text()
    full[0] = False
    qtbot.waitUntil(lambda: "nothing was lost" in room.views.message.text(), timeout=8_000)
    workspace.keeper.settle()
    assert not workspace.keeper.at_risk and "NOT KEPT" not in room.views.title.state.text()


def test_lengths_that_no_mark_has_are_refused_in_words(take_room, qtbot):
    room, workspace = take_room, take_room.workspace
    for station, span, words in (("Ticks", (1.0, 1.12), "30 ms"), ("Ticks", (1.0, 1.00001), "0.01 ms"),
                                 ("Esses", (0.0, workspace.part.source.duration), "1.5 s")):  # fmt: skip
        press(room, key(station), qtbot=qtbot)
        before = workspace.session
        workspace.select_time(span)
        started = time.monotonic()
        press(room, Qt.Key.Key_N, qtbot=qtbot)
        assert workspace.session is before and words in room.views.message.text() and time.monotonic() - started < 1
    press(room, key("Ticks"), qtbot=qtbot)
    workspace.select_time((1.0, 1.01))
    press(room, Qt.Key.Key_N, qtbot=qtbot)
    for _ in range(3):
        workspace.commands.set_edge("end", 5.0, None)
    start, end = workspace.mark.span
    assert end - start == pytest.approx(0.03)
    assert any(t.first == round(start * 22_050) for t in workspace.part.plan)


def test_a_gap_over_singing_is_told(take_room, qtbot):
    room, workspace = take_room, take_room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    workspace.select_time((0.2, 1.4))
    press(room, Qt.Key.Key_N, qtbot=qtbot)
    assert "s of singing lie within this gap" in room.views.message.text()
    assert "reaches into the singing" in room.views.lens.warning.text()


def test_a_read_error_stops_the_playing_and_says_so(window, tmp_path, qtbot):
    samples, rate, _ = spoken("de")
    samples = np.tile(samples, 5)  # its middle is not read ahead when it is opened
    path = tmp_path / "take.flac"
    sf.write(path, samples, rate)
    room = opened(window, path, qtbot)
    whole = path.read_bytes()
    path.write_bytes(whole[: len(whole) // 2] + bytes(20_000) + whole[len(whole) // 2 + 20_000 :])
    room.hearing.seek(0.45 * len(samples) / rate)
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: "Playing stopped" in room.views.message.text(), timeout=5_000)
    assert "take.flac" in room.views.message.text()
    qtbot.waitUntil(lambda: not room.hearing.player.playing, timeout=2_000)  # told by another process
    path.write_bytes(whole)
    room.hearing.player.peak()
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: room.hearing.player.peak() > 0, timeout=3_000)
    room.hearing.toggle_play()


@pytest.mark.parametrize("killed", ["the one that mixes", "the one that gives it to the device"])
def test_where_a_process_that_plays_is_killed_playing_goes_on_with_the_next_play(room, qtbot, killed):
    player = room.hearing.player
    room.hearing.seek(10.0)
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: player.peak() > 0, timeout=5_000)
    mixes = player.process_id
    gives = int(Path(f"/proc/{mixes}/task/{mixes}/children").read_text())
    os.kill(mixes if killed == "the one that mixes" else gives, signal.SIGKILL)
    qtbot.waitUntil(lambda: "Playing stopped" in room.views.message.text(), timeout=5_000)
    place = player.position
    assert not player.playing and place > 10 * player.sample_rate
    qtbot.waitUntil(lambda: not any(Path(f"/proc/{pid}/cmdline").exists() for pid in (mixes, gives)), timeout=2_000)
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: player.peak() > 0 and player.position > place, timeout=10_000)
    room.hearing.toggle_play()


def test_what_fails_in_the_background_says_nothing_about_the_recording(take_room, qtbot, tmp_path, monkeypatch):
    room, workspace = take_room, take_room.workspace
    blocked = tmp_path / "no folder"
    blocked.write_text("in the way")
    monkeypatch.setenv("XDG_CACHE_HOME", str(blocked))
    workspace.pool.workers._hands = 1
    from isophon.core.work.workers import Workers

    workspace.pool.workers, before = Workers(1), workspace.pool.workers  # workers that know that folder
    workspace.analysis.look_again()
    qtbot.waitUntil(lambda: "cannot be kept" in room.views.message.text(), timeout=90_000)
    assert not workspace.take.trouble and workspace.part.found
    workspace.pool.workers.close()
    workspace.pool.workers = before


def test_leaving_a_session_at_work_leaves_the_workers(window, tmp_path, qtbot):
    samples, rate, _ = spoken("de")
    long = write(tmp_path / "long.wav", np.tile(samples, 12), rate)
    window.open_path(long)
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=90_000)
    first = window.work_page
    short = write(tmp_path / "short.wav", samples, rate)
    window.open_path(short)
    qtbot.waitUntil(lambda: window.work_page not in (None, first), timeout=90_000)
    qtbot.waitUntil(lambda: window.work_page.workspace.part.found, timeout=60_000)
    assert all(thread.is_alive() for thread in window.background._workers._threads)


def test_hand_over_tells_the_truth(take_room, qtbot, tmp_path):
    room, page = take_room, take_room.views.hand_over
    press(room, key("Hand over"), qtbot=qtbot)
    page.form.folder.setText(" ")
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    assert "No folder is named" in room.views.message.text()
    page.form.folder.setText(str(tmp_path / "out"))
    room.workspace.edit("rename", lambda s: edits.replace(s, parts=(edits.replace(s.parts[0], name="Ada: verse/2"),)))
    page.form.labels.setChecked(True)
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "written to" in page.outcome.text(), timeout=90_000)
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == [
        "Ada: verse_2.clean.wav", "Ada: verse_2.marks.tsv", "report.json"]  # fmt: skip
    table: QTableWidget = page.table
    heads = [table.horizontalHeaderItem(i).text() for i in range(table.columnCount())]
    cells = [table.item(0, i).text() for i in range(table.columnCount())]
    row = dict(zip(heads, cells, strict=True))
    for which in PASSES:
        marks = which.marks(room.workspace.part)
        changed = sum(room.workspace.part.change(m) < 0 for m in marks)
        head = which.words.many.split(" of ")[0].capitalize()
        assert row[head] == (f"{changed} of {len(marks)}" if marks else "none")
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    assert (
        page.outcome.text() == ""
        and "exists already" in room.views.message.text()
        and "--" not in room.views.message.text()
    )


def test_what_would_clip_is_turned_down_or_written_as_float(window, qtbot, tmp_path):
    samples, rate, _ = spoken("de")
    room = opened(window, write(tmp_path / "hot.wav", np.clip(samples * 30, -1, 1), rate), qtbot)
    press(room, key("Hand over"), qtbot=qtbot)
    page = room.views.hand_over
    assert "Reaching full scale" in page.will.text()
    peaks = {}
    for choice in ("refuse", "trim", "float"):
        page.form.clip.setCurrentIndex(page.form.clip.findData(choice))
        page.form.folder.setText(str(tmp_path / choice))
        qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
        qtbot.waitUntil(lambda: bool(page.outcome.text()) and not page._tasks, timeout=60_000)
        stems = list((tmp_path / choice).glob("*.wav"))
        peaks[choice] = float(np.abs(__import__("soundfile").read(stems[0])[0]).max()) if stems else None
    assert peaks["refuse"] is None and 0.9 < peaks["trim"] < 1.0 < peaks["float"]


def test_sigterm_ends_the_window_with_everything_written(tmp_path, take_room):
    room = take_room
    path = tmp_path / "song.isophon"
    room.workspace.keeper.save(path)
    room.window().close()
    environment = {**os.environ, "PYTHONPATH": str(SRC), "QT_QPA_PLATFORM": "offscreen"}
    for arguments in ([], ["open", str(path)]):
        process = subprocess.Popen([sys.executable, "-m", "isophon", *arguments], env=environment)
        time.sleep(4.0)
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=30) == 0


def test_replacements_and_additions_are_remarked_on(take_room, window, qtbot, tmp_path):
    room, workspace = take_room, take_room.workspace
    window.add_recordings([tmp_path / "take.wav"])
    qtbot.waitUntil(lambda: "in the session already" in room.views.message.text(), timeout=10_000)
    assert len(workspace.session.parts) == 1
    samples, _, _ = spoken("es")
    room.views.layout_page.relink("part-1", write(tmp_path / "other.wav", samples[:60_000], 8_000))
    assert "long, not" in room.views.message.text() and "at 8 kHz, not 22.05" in room.views.message.text()
    press(room, key("Lay out"), qtbot=qtbot)
    table = room.views.layout_page.table
    texts = lambda: [item.text() for i in range(table.columnCount()) if (item := table.item(0, i))]  # noqa: E731
    qtbot.waitUntil(lambda: any("nothing above 4 kHz" in text for text in texts()), timeout=10_000)


def test_tallest_first_is_walked_as_it_stands(room, qtbot):
    workspace = room.workspace
    room.views.orders.buttons["tallest"].setChecked(True)
    workspace.select_marks([])
    heights = []
    for _ in range(6):
        press(room, Qt.Key.Key_Right, qtbot=qtbot)
        heights.append(workspace.mark.standout_db)
        first, last = workspace.viewport.span
        assert first <= workspace.mark.start <= last
    assert heights == sorted((m.standout_db for m in workspace.marks), reverse=True)[:6]


@pytest.mark.filterwarnings("error")
def test_work_that_outlives_what_asked_for_it_ends_quietly(qtbot):
    """Closing a session while its sheet works out a picture."""
    begun, go_on, heard = threading.Event(), threading.Event(), []

    class Asking(QObject):
        def hear(self, value):
            heard.append(value)

    def work(progress):
        begun.set()
        go_on.wait(10)
        progress(0.5)
        return 1

    for closed in (True, False):
        asking, job = Asking(), Job(work)
        job.done.connect(asking.hear)
        job.start()
        assert begun.wait(10)
        thread = job._thread
        if closed:
            shiboken6.delete(asking)
            del job
            gc.collect()
        go_on.set()
        thread.join(10)
        qtbot.wait(50)
        assert heard == ([] if closed else [1])


def test_a_view_that_goes_while_its_pictures_are_made_cannot_be_reached_by_their_thread(qtbot, monkeypatch):
    """A thread that told a view which was just being deleted ended the whole program."""
    begun, go_on = threading.Event(), threading.Event()

    def ask(look):
        begun.set()
        go_on.wait(10)
        return np.zeros(round(8_000 * look.view[1]), np.float32)

    monkeypatch.setattr(close_up_module, "process", lambda: SimpleNamespace(generation=0, ask=ask))
    source = Source("take.wav", 8_000, 1, 8_000)
    take = SimpleNamespace(source=source, recording=SimpleNamespace(sample_rate=8_000))
    both = Wanted(take, (0, 0.1), None, None), Wanted(take, (0, 0.2), None, None)
    parent = QObject()
    close_up = CloseUp(parent)
    close_up.ask(*both)
    assert begun.wait(10)
    shiboken6.delete(parent)
    held = weakref.ref(close_up)
    del close_up
    gc.collect()
    assert held() is None, "the thread still holds it"
    go_on.set()
    staying = CloseUp()
    staying.ask(*both)
    qtbot.waitUntil(lambda: staying.settled, timeout=5_000)
    assert [len(staying.kept(which, one)) for which, one in enumerate(both)] == [800, 1_600]


def test_an_error_that_nothing_expected_is_said_once_and_logged_with_its_cause(window, room, qtbot, tmp_path):
    hook, said = Unexpected(window), []
    room.views.message.tell = lambda words, trouble: said.append((words, trouble))
    for _ in range(3):
        try:
            raise ValueError("<b>odd</b>\nvalue")
        except ValueError as error:
            hook(ValueError, error, error.__traceback__)
    qtbot.waitUntil(lambda: bool(said))
    assert len(said) == 1 and said[0][1] and "ValueError: <b>odd</b>\\nvalue" in said[0][0], said
    assert str(log_path()) in said[0][0]
