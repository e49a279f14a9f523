"""The window driven as a person would: real widgets, mouse and keys, down to the samples heard."""

import json
import time

import numpy as np
import pytest
import soundfile as sf
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication

from conftest import write
from driving import answer_dialog, crash, drag, key, opened, press
from isophon.app.model.state import recent_sessions, unsaved_work
from isophon.app.pages.cards_page import CardsPage
from isophon.app.sheets import PASSES
from isophon.app.sheets.sheet import Sheet
from isophon.app.window import Window
from isophon.core.session import file
from isophon.core.session.journal import replay
from voices import spoken


def bar_of(skyline, mark):
    return next(bar for m, bar in skyline.places.bars() if m.id == mark.id)


def test_dragging_the_ceiling_changes_what_is_heard(room, qtbot):
    workspace, skyline = room.workspace, room.views.skyline
    mark = max(workspace.marks, key=lambda m: m.standout_db)
    workspace.select_marks([mark.id])
    plan = workspace.part.plan
    rate = workspace.take.recording.sample_rate
    tag = skyline.places.tags()["ceiling_db"]
    before = workspace.part.ess.ceiling_db
    lower = tag.center() + QPointF(0, skyline.places.y_of(before - 8) - skyline.places.y_of(before))
    drag(qtbot, skyline, tag.center(), lower)
    assert workspace.part.ess.ceiling_db == pytest.approx(before - 8, abs=0.8)
    assert workspace.keeper.history.undo_name.startswith("ceiling")
    assert len(workspace.part.plan) > len(plan)
    loop = room.hearing.loop_span()
    expected = workspace.take.renderer.cleaned(workspace.part.plan, loop[0], loop[1] - loop[0])[0]
    piece = expected[3000:9000]
    assert np.abs(piece).max() > 1e-3

    def is_heard():
        heard = room.hearing.player.device.played()[0]
        if len(heard) < len(piece):
            return False
        windows = np.lib.stride_tricks.sliding_window_view(heard, len(piece))
        return any(np.array_equal(windows[i], piece) for i in np.flatnonzero(windows[:, 0] == piece[0]))

    room.hearing.player.play()
    qtbot.waitUntil(is_heard, timeout=20_000)
    room.hearing.player.stop()
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert workspace.part.ess.ceiling_db == before and workspace.part.plan == plan
    assert rate == 48_000


def test_a_bar_dragged_by_hand_stays_when_the_ceiling_moves(room, qtbot):
    workspace, skyline = room.workspace, room.views.skyline
    mark = max(workspace.marks, key=lambda m: m.standout_db)
    middle = sum(mark.span) / 2
    workspace.viewport.show(middle - 2, middle + 2)
    bar = bar_of(skyline, mark)
    qtbot.mouseClick(skyline, Qt.MouseButton.LeftButton, pos=QPoint(round(bar.center().x()), round(bar.bottom() - 4)))
    assert workspace.selected_marks == (mark.id,)
    top = QPointF(bar.center().x(), skyline.places.y_of(mark.standout_db + workspace.part.change(mark)))
    drag(qtbot, skyline, top, QPointF(top.x(), skyline.places.y_of(mark.standout_db - 5)))
    now = workspace.part.mark(mark.id)
    assert now.hand.change_db == pytest.approx(-5, abs=0.8)
    workspace.settings.set_setting("ceiling_db", -20)
    assert workspace.part.change(workspace.part.mark(mark.id)) == now.hand.change_db
    press(room, Qt.Key.Key_Down, qtbot=qtbot)
    assert workspace.part.mark(mark.id).hand.change_db == pytest.approx(now.hand.change_db - 0.5)
    press(room, Qt.Key.Key_Backspace, qtbot=qtbot)
    assert not workspace.part.mark(mark.id).hand.any


def test_the_loop_of_work_by_keys(room, qtbot):
    workspace = room.workspace
    marks = workspace.marks
    press(room, Qt.Key.Key_Right, qtbot=qtbot)
    press(room, Qt.Key.Key_Right, qtbot=qtbot)
    assert workspace.selected_marks == (marks[1].id,)
    press(room, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier, qtbot)
    assert workspace.part.change(workspace.mark) < 0
    left = workspace.mark.id
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert workspace.part.mark(left).hand.leave and workspace.mark.id != left and not workspace.mark.hand.decided
    assert room.hearing.player.playing
    press(room, Qt.Key.Key_Return, Qt.KeyboardModifier.ShiftModifier, qtbot)
    assert workspace.mark.id == left and room.views.lens.leave.isChecked()
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    assert not room.hearing.player.playing
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    assert room.hearing.player.playing
    press(room, Qt.Key.Key_C, qtbot=qtbot)
    assert room.hearing.compare == "removed" and room.views.transport.buttons["removed"].isChecked()
    qtbot.keyPress(room, Qt.Key.Key_S)
    assert room.views.transport.buttons["as sung"].isChecked()
    qtbot.keyRelease(room, Qt.Key.Key_S)
    assert room.views.transport.buttons["removed"].isChecked()
    loop = room.hearing.loop_span()
    qtbot.waitUntil(
        lambda: workspace.mark.span[0] < room.hearing.player.position / 48_000 < workspace.mark.span[1], timeout=4000
    )
    assert loop[0] <= room.hearing.player.position <= loop[1]
    workspace.viewport.show(*workspace.mark.span)
    view = workspace.viewport.span
    qtbot.waitUntil(lambda: not view[0] <= room.views.trace.playhead <= view[1], timeout=4000)
    assert workspace.viewport.span == view  # what is looped stays in view
    press(room, Qt.Key.Key_M, qtbot=qtbot)
    assert room.views.transport.match_value.text().endswith("LU")
    press(room, key("Hand over"), qtbot=qtbot)
    assert room.views.pages.currentWidget() is room.views.hand_over
    press(room, key("Esses"), qtbot=qtbot)
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert not workspace.mark.hand.leave


def test_phrases_are_walked_and_looped(room, qtbot):
    workspace = room.workspace
    phrases = workspace.take.phrases
    for each, index in (
        (Qt.Key.Key_PageDown, 0),
        (Qt.Key.Key_PageDown, 1),
        (Qt.Key.Key_PageUp, 0),
        (Qt.Key.Key_PageUp, -1),
    ):
        press(room, each, qtbot=qtbot)
        assert workspace.selected_time == phrases[index]
        rate = workspace.take.recording.sample_rate
        assert room.hearing.loop_span() == (round(phrases[index][0] * rate), round(phrases[index][1] * rate))
        assert room.hearing.loop_span()[0] <= room.hearing.player.position <= room.hearing.loop_span()[1]


def test_looking_again_keeps_what_a_hand_decided(room, qtbot):
    workspace = room.workspace
    workspace.select_marks([workspace.marks[3].id])
    workspace.commands.toggle_leave()
    kept = workspace.mark
    workspace.analysis.look_again()
    qtbot.waitUntil(lambda: "Found again" in room.views.message.text(), timeout=60_000)
    assert workspace.part.mark(kept.id) == kept


def test_the_trace_zooms_pans_selects_and_draws_a_mark(room, qtbot):
    trace, workspace = room.views.trace, room.workspace
    at = QPointF(700, trace.height() * 0.6)
    time_there = trace.places.time_at(700)
    for _ in range(16):
        wheel = QWheelEvent(at, trace.mapToGlobal(at), QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton,
                            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        QApplication.sendEvent(trace, wheel)
    assert workspace.viewport.span[1] - workspace.viewport.span[0] < 4 and trace.places.time_at(700) == pytest.approx(
        time_there, abs=0.02
    )
    view = workspace.viewport.span
    drag(qtbot, trace, at, at + QPointF(-200, 0))
    assert workspace.viewport.span[0] > view[0]
    ruler = trace.places.rows()[1]
    drag(qtbot, trace, QPointF(500, ruler.center().y()), QPointF(540, ruler.center().y()))
    assert workspace.selected_time == pytest.approx((trace.places.time_at(500), trace.places.time_at(540)), abs=0.02)
    count = len(workspace.marks)
    selection = workspace.selected_time
    press(room, Qt.Key.Key_N, qtbot=qtbot)
    assert len(workspace.marks) == count + 1 and workspace.mark.hand.drawn
    assert workspace.mark.span == pytest.approx(selection, abs=1e-3)
    press(room, Qt.Key.Key_Backspace, qtbot=qtbot)
    assert len(workspace.marks) == count
    mark = workspace.marks[5]
    workspace.viewport.show(mark.start - 1, mark.end + 1)
    spectrum = trace.places.rows()[3]
    qtbot.mouseDClick(
        trace,
        Qt.MouseButton.LeftButton,
        pos=QPoint(round(trace.places.x_of(sum(mark.span) / 2)), round(spectrum.center().y())),
    )
    assert workspace.selected_marks == (mark.id,) and room.hearing.player.playing


def test_the_lens_box_and_the_sheet(room, qtbot):
    workspace = room.workspace
    mark = max(workspace.marks, key=lambda m: m.standout_db)
    workspace.select_marks([mark.id])
    pictures = room.views.lens.pictures
    box = pictures.mark_box(workspace.mark, pictures.boxes()[0])
    drag(
        qtbot, pictures, QPointF(box.center().x() + 20, box.bottom()), QPointF(box.center().x() + 20, box.bottom() - 30)
    )
    assert workspace.mark.hand.low_hz > mark.low_hz * 1.2 and workspace.mark.hand.high_hz is None
    box = pictures.mark_box(workspace.mark, pictures.boxes()[0])
    drag(qtbot, pictures, QPointF(box.left(), box.center().y() + 15), QPointF(box.left() + 12, box.center().y() + 15))
    assert workspace.mark.span[0] > mark.start
    slider = room.sheet.sliders["limit_db"]
    slider.setFocus()
    for _ in range(4):
        qtbot.keyClick(slider, Qt.Key.Key_Right)
    assert workspace.part.ess.limit_db == -10.0 and workspace.part.change(workspace.mark) >= -10.0
    room.sheet.reset.click()
    assert workspace.part.ess.limit_db == -12.0


def test_every_sheet_is_made_while_nobody_waits_for_it_and_at_once_where_one_does(room, qtbot):
    """Also one that was begun; each is made once."""
    room.open_station(len(PASSES))
    last = room.sheet
    assert last.which is PASSES[-1] and last.isVisible()
    qtbot.waitUntil(lambda: room.views.sheets.count() == len(PASSES), timeout=5_000)
    made = room.views.sheets.findChildren(Sheet)
    for i, which in enumerate(PASSES, 1):
        room.open_station(i)
        assert room.sheet.which is which and room.sheet.isVisible() and room.sheet in made
    assert room.sheet is last and room.views.sheets.count() == len(PASSES)


def test_unsaved_work_outlives_a_crash_and_saving_settles_it(window, room, qtbot, tmp_path):
    workspace = room.workspace
    for ceiling in (-7.0, -8.0, -9.5):
        workspace.settings.set_setting("ceiling_db", ceiling)
    crash(workspace)
    name, kept = unsaved_work()[0]
    assert name == "Glasshouse Starlings"
    assert file.load(workspace.keeper.saved_as).parts[0].ess.ceiling_db == 0.0
    other = Window()
    qtbot.addWidget(other)
    other.recover(kept)
    qtbot.waitUntil(lambda: other.work_page is not None, timeout=90_000)
    again = other.work_page.workspace
    assert again.part.ess.ceiling_db == -9.5 and again.keeper.unsaved
    again.undo()
    assert again.part.ess.ceiling_db == -8.0
    other.work_page.views.menu.save()
    assert file.load(workspace.keeper.saved_as).parts[0].ess.ceiling_db == -8.0
    assert unsaved_work() == [] and recent_sessions()[0] == workspace.keeper.saved_as
    other.close()


def test_undo_reaches_the_first_step_after_closing_and_opening_again(window, room, qtbot):
    workspace = room.workspace
    workspace.settings.set_setting("ceiling_db", -7.0)
    workspace.select_marks([workspace.marks[2].id])
    workspace.commands.toggle_leave()
    press(room, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier, qtbot)
    path = workspace.keeper.saved_as
    assert not workspace.keeper.unsaved
    again = opened(window, path, qtbot).workspace
    assert again is not workspace and again.keeper.history.undo_name.startswith("leave · Lead")
    again.undo()
    again.undo()
    assert again.keeper.history.undo_name is None and again.part.ess.ceiling_db == 0.0
    assert not any(m.hand.any for m in again.marks)
    again.redo()
    assert again.part.ess.ceiling_db == -7.0


def test_opening_the_file_sets_unsaved_work_aside(window, room, qtbot):
    room.workspace.settings.set_setting("ceiling_db", -7.0)
    room.workspace.keeper.settle()
    path = room.workspace.keeper.saved_as
    again = opened(window, path, qtbot).workspace
    assert again.part.ess.ceiling_db == 0.0
    again.settings.set_setting("ceiling_db", -5.0)
    crash(again)
    ceilings = {replay(journal).history.session.parts[0].ess.ceiling_db for _, journal in unsaved_work()}
    assert ceilings == {-7.0, -5.0}


def test_a_recording_is_opened_and_handed_over_like_the_command_line(window, qtbot, tmp_path):
    samples, rate, _ = spoken("de")
    take = write(tmp_path / "take.wav", samples, rate, "FLOAT")
    room = opened(window, take, qtbot)
    press(room, key("Hand over"), qtbot=qtbot)
    page = room.views.hand_over
    page.form.folder.setText(str(tmp_path / "out"))
    page.form.bit_depth.setCurrentIndex(2)
    page.form.removed.setChecked(True)
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: page.table.isVisible() and page.write.isEnabled(), timeout=20_000)
    from isophon.cli import main

    assert main(["clean", str(take), "--out", str(tmp_path / "cli"), "--depth", "32f", "--removed"]) == 0
    for name in ("take.clean.wav", "take.removed.wav"):
        one, other = (sf.read(tmp_path / folder / name)[0] for folder in ("out", "cli"))
        assert np.array_equal(one, other)
    report = json.loads((tmp_path / "out" / "report.json").read_text())["files"][0]
    assert report["kinds"]["ess"]["count"] == len(room.workspace.marks)
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "exists already" in room.views.message.text(), timeout=5000)


def test_bad_files_are_told_and_the_window_goes_on(window, qtbot, tmp_path):
    (tmp_path / "list.wav").write_text("eggs, milk")
    window.open_path(tmp_path / "list.wav")
    qtbot.waitUntil(lambda: window.message.isVisible(), timeout=5000)
    assert "list.wav: is not audio" in window.message.text()
    quiet = write(tmp_path / "quiet.wav", np.zeros(96_000), 48_000)
    room = opened(window, quiet, qtbot)
    assert "No voice" in room.views.message.text() and room.workspace.marks == ()
    room.grab()


def test_a_bad_file_leaves_what_is_open(window, room, qtbot, tmp_path):
    room.workspace.settings.set_setting("ceiling_db", -7.0)
    (tmp_path / "list.wav").write_text("eggs, milk")
    window.open_path(tmp_path / "list.wav")
    qtbot.waitUntil(lambda: "list.wav" in room.views.message.text(), timeout=5000)
    assert window.stack.currentWidget() is room and room.workspace.part.ess.ceiling_db == -7.0
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert room.workspace.part.ess.ceiling_db == 0.0


def test_saving_over_another_session_keeps_its_unsaved_work(window, room, qtbot, tmp_path):
    first = room.workspace.keeper.saved_as
    room.workspace.settings.set_setting("ceiling_db", -7.0)
    take = write(tmp_path / "take.wav", spoken("de")[0], spoken("de")[1])
    other = opened(window, take, qtbot).workspace
    other.settings.set_setting("ceiling_db", -9.0)
    other.keeper.settle()
    assert other.keeper.save(first)
    kept = [replay(journal).history.session for _, journal in unsaved_work()]
    assert [session.parts[0].ess.ceiling_db for session in kept] == [-7.0]


def test_making_the_demo_can_be_cancelled(window, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "empty"))
    window.open_demo()
    qtbot.waitUntil(lambda: window.start.bar.value() > 20, timeout=20_000)
    qtbot.mouseClick(window.start.cancel, Qt.MouseButton.LeftButton)
    start = time.time()
    qtbot.waitUntil(lambda: window._job is None, timeout=10_000)
    assert window.work_page is None and not window.message.text() and time.time() - start < 8
    assert window.start.open.isEnabled() and not list(tmp_path.glob("empty/**/*.isophon"))


def test_a_clipped_take_and_a_rest_are_told(window, qtbot, tmp_path):
    samples, rate, _ = spoken("de")
    loud = np.clip(samples * 6, -1, 1)
    room = opened(window, write(tmp_path / "hot.wav", loud, rate), qtbot)
    assert "has clipped" in room.views.message.text() and room.workspace.take.figures.clipped > 100
    room.tell("")
    room.played.listened_s = 20 * 60 - 0.1
    room.hearing.toggle_play()
    qtbot.waitUntil(lambda: room.played.listened_s < 60, timeout=3000)
    assert room.views.message.text() == ""
    room.views.menu.rest.trigger()
    room.played.listened_s = 20 * 60 - 0.1
    qtbot.waitUntil(lambda: "Rest your ears" in room.views.message.text(), timeout=3000)


def test_voice_cards_are_kept_compared_used_and_travel(room, qtbot, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    card = str(tmp_path / "low.voicecard")
    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_, **__: ("Low bright", True))
    workspace, click = room.workspace, lambda button: qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    workspace.settings.set_setting("ceiling_db", -8.5)
    workspace.settings.set_of_kind("ess", "by", "both")
    assert workspace.keeper.history.undo_name.startswith("esses by both · ")
    page = CardsPage(workspace, room)
    page.show()
    assert "No card" in page.words.text() and not page.use.isEnabled()
    click(page.keep)
    assert page.card.singer == "Low bright"
    room.sheet.reset.click()
    assert workspace.part.ess.ceiling_db == 0.0
    rows = [[page.table.item(r, c).text() for c in range(4)] for r in range(page.table.rowCount())]
    assert ["Esses", "ceiling", "−8.5 dB", "0.0 dB"] in rows
    assert ["Esses", "esses", "by both", "by the ceiling"] in rows
    click(page.use)
    assert workspace.part.ess.ceiling_db == -8.5
    assert workspace.keeper.history.undo_name == "apply the voice card of Low bright"
    answer_dialog(card)
    click(page.give)
    click(page.away)
    assert page.list.count() == 0
    answer_dialog(card)
    click(page.bring)
    assert page.list.count() == 1 and page.card.singer == "Low bright"
    (tmp_path / "low.voicecard").write_text("{}")
    answer_dialog(card)
    click(page.bring)
    assert "low.voicecard: is not a voice card" in page.words.text() and page.list.count() == 1
