"""A whole session in the window: laid out, heard together, worked on many at once, gone back and forth in."""

import json
import shutil
import time

import mido
import numpy as np
import pytest
import soundfile as sf
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QComboBox

from conftest import write
from driving import all_found, crash, drag, excerpt, key, opened, press
from isophon.app.model.state import unsaved_work
from isophon.app.pages.history_page import HistoryPage
from isophon.app.pages.proof_page import ProofPage
from isophon.app.pages.results_table import ResultsTable
from isophon.app.window import Window
from isophon.core.playing.mix import gains
from isophon.core.session import file, layout
from isophon.core.session.items import Listening, Source
from isophon.core.session.journal import replay
from isophon.core.session.marker_import import import_file
from isophon.core.session.model import Part
from isophon.core.takes import cache as take_cache
from isophon.core.takes.heads import kept_head
from voices import spoken

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def drop(window, paths):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    event = QDropEvent(QPointF(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                       Qt.KeyboardModifier.NoModifier)  # fmt: skip
    window.dropEvent(event)


def click_row(room, part_id, qtbot, modifiers=Qt.KeyboardModifier.NoModifier):
    qtbot.mouseClick(room.views.panel.rows[part_id], Qt.MouseButton.LeftButton, modifiers, QPoint(60, 12))


def cell(page, row, name):
    columns = [page.table.horizontalHeaderItem(i).text() for i in range(page.table.columnCount())]
    return page.table.item(row, columns.index(name))


@pytest.fixture
def songs(tmp_path):
    """Takes of one song as they come, one of them no audio at all."""
    folder = tmp_path / "song"
    folder.mkdir()
    for name, voice in (("lead vox", "de"), ("bgv low", "it+m4"), ("dbl", "es")):
        samples, rate, _ = spoken(voice)
        write(folder / f"{name}.wav", samples, rate)
    samples, _, _ = spoken("es+f4")
    write(folder / "adlib 1.wav", samples, 44_100)
    (folder / "broken.wav").write_text("eggs, milk")
    return folder


def test_a_dropped_folder_is_laid_out_and_corrected(window, songs, qtbot):
    drop(window, [songs])
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=10_000)
    room = window.work_page
    assert "broken.wav: is not audio" in room.views.message.text()
    assert {p.name: p.role for p in room.workspace.session.parts} == {
        "lead vox": "lead", "bgv low": "harmony", "dbl": "double", "adlib 1": "adlib"}  # fmt: skip
    assert room.workspace.session.name == "song" and room.workspace.keeper.history.undo_name is None
    all_found(room, qtbot)
    press(room, key("Lay out"), qtbot=qtbot)
    page = room.views.layout_page
    names = [cell(page, row, "Name").text() for row in range(page.table.rowCount())]
    odd = names.index("adlib 1")
    assert "44.1 kHz, the others 22.05 kHz" in cell(page, odd, "Remarks").text()
    assert cell(page, odd, "Level").text().endswith("dBFS")
    cell(page, odd, "Name").setText("Shouts")
    cell(page, odd, "Start").setText("1:02,5 s")
    cell(page, odd, "Singer").setText("Ann")
    part = next(p for p in room.workspace.session.parts if p.name == "Shouts")
    assert part.offset_s == 62.5 and part.singer == "Ann"
    cell(page, odd, "Start").setText("soon")
    assert "is no time" in room.views.message.text() and cell(page, odd, "Start").text() == "62.500 s"
    choice = page.table.cellWidget(odd, 1).findChild(QComboBox)
    choice.setCurrentIndex(choice.findData("bed"))
    choice.activated.emit(choice.currentIndex())
    assert [g.name for g in room.workspace.session.guides] == ["Shouts"] and len(room.workspace.session.parts) == 3
    page.table.selectRow(0)
    page.down.click()
    page.remove.click()
    assert len(room.workspace.session.items) == 3
    extra, rate, _ = spoken("pt-br+f5")
    drop(window, [write(songs / "oohs.wav", extra, rate)])
    qtbot.waitUntil(lambda: len(room.workspace.session.items) == 4, timeout=10_000)
    assert room.workspace.keeper.history.undo_name == "add oohs"
    for _ in range(12):
        press(room, Qt.Key.Key_Z, CTRL, qtbot)
    assert {p.name for p in room.workspace.session.parts} == {"lead vox", "bgv low", "dbl", "adlib 1"}
    assert all(p.found for p in room.workspace.session.parts), "what was found belongs to every step"


def test_an_empty_session_says_what_to_do(room, qtbot):
    page = room.views.layout_page
    press(room, key("Lay out"), qtbot=qtbot)
    page.table.selectAll()
    page.remove.click()
    assert room.workspace.session.items == () and "Drop the vocal recordings" in page.about.text()
    press(room, key("Esses"), qtbot=qtbot)
    for each in (Qt.Key.Key_Right, Qt.Key.Key_N, Qt.Key.Key_D, Qt.Key.Key_U, Qt.Key.Key_PageDown, Qt.Key.Key_Space):
        press(room, each, qtbot=qtbot)
    room.grab()
    press(room, key("Hand over"), qtbot=qtbot)
    assert not room.views.hand_over.write.isEnabled() and "no part to hand over" in room.views.hand_over.will.text()
    room.workspace.undo()
    assert len(room.workspace.session.parts) == 5 and room.workspace.part.found


def test_a_ceiling_moves_for_all_parts_in_hand_each_against_its_own_voice(room, qtbot):
    all_found(room, qtbot)
    workspace = room.workspace
    click_row(room, "part-2", qtbot)
    click_row(room, "part-4", qtbot, SHIFT)
    click_row(room, "part-5", qtbot, CTRL)
    assert workspace.selected_parts == ("part-2", "part-3", "part-4", "part-5") and workspace.part.name == "Lead double"
    assert "4 parts selected" in room.sheet.about.text()
    before = {p.id: p.plan for p in workspace.session.parts}
    stood = {p.id: p.ess.ceiling_db for p in workspace.session.parts}
    tag = room.views.skyline.places.tags()["ceiling_db"]
    drag(qtbot, room.views.skyline, tag.center(), tag.center() + QPointF(0, 30))
    ceilings = {p.id: p.ess.ceiling_db for p in workspace.session.parts}
    moved = {round(ceilings[f"part-{i}"] - stood[f"part-{i}"], 1) for i in (2, 3, 4, 5)}
    assert ceilings["part-1"] == 0.0 and len(moved) == 1 and moved.pop() < -3
    assert ceilings["part-2"] < -8.5
    assert (
        workspace.session.part("part-1").plan == before["part-1"]
        and workspace.session.part("part-4").plan != before["part-4"]
    )
    room.sheet.reset.click()
    assert (
        workspace.session.part("part-2").ess.ceiling_db == -8.0
        and workspace.session.part("part-5").ess.ceiling_db == 0.0
    )
    click_row(room, "part-1", qtbot)
    workspace.settings.set_setting("limit_db", -6.0)
    workspace.settings.give_settings(["part-3"])
    assert workspace.session.part("part-3").ess == workspace.part.ess
    press(room, Qt.Key.Key_D, qtbot=qtbot)
    assert workspace.part.done == ("ess",)
    press(room, Qt.Key.Key_Down, CTRL, qtbot)
    assert workspace.part.id == "part-2"
    press(room, Qt.Key.Key_A, CTRL, qtbot)
    assert len(workspace.selected_parts) == 5


def plays(room, qtbot, song_s, piece):
    """Whether stereo samples are heard, to rounding, when it plays from a second of the song.

    A machine under load may leave a gap in what the stand-in plays; that is tried again.
    """
    hearing = room.hearing
    hearing.set_looping(False)
    for _ in range(5):
        hearing.player.stop()
        qtbot.wait(80)
        hearing.player.device.clear()
        hearing.seek(song_s - room.workspace.offset)
        hearing.toggle_play()
        qtbot.wait(500)
        hearing.player.stop()
        qtbot.wait(60)
        heard = hearing.player.device.played()
        starts = np.flatnonzero(np.abs(heard[0] - piece[0, 0]) < 1e-6)
        windows = (heard[:, i : i + piece.shape[1]] for i in starts if i + piece.shape[1] <= heard.shape[1])
        if any(np.allclose(window, piece, atol=2e-6) for window in windows):
            return True
    return False


def test_hearing_alone_with_the_stack_and_with_the_bed(room, qtbot):
    all_found(room, qtbot)
    workspace, session, rate = room.workspace, room.workspace.session, 48_000
    at = next(t.first for t in session.parts[0].plan if t.first > 17 * rate) / rate - 0.05  # in a chorus
    span = round((at + 0.08) * rate), 4_000

    def rendered(item, plan):
        take = workspace.pool.take(item.source)
        samples = take.renderer.cleaned(plan, span[0], span[1])
        left, right = gains(item.listening)
        return np.stack([samples[0] * np.float32(left), samples[-1] * np.float32(right)])

    parts = [p for p in session.parts if p.id != "part-5"]  # the ad-libs begin later
    lead = parts[0]
    assert lead.plan and plays(room, qtbot, at, rendered(lead, lead.plan))
    press(room, Qt.Key.Key_H, qtbot=qtbot)
    beside = rendered(lead, lead.plan) * np.float32([[1.0], [0.0]])
    assert plays(room, qtbot, at, beside), "the lead is on the left, and what is in hand on the right"
    press(room, Qt.Key.Key_H, qtbot=qtbot)
    stack = sum(rendered(p, p.plan) for p in parts)
    assert plays(room, qtbot, at, stack)
    press(room, Qt.Key.Key_H, qtbot=qtbot)
    assert room.views.transport.hears["with the music"].isChecked()
    assert plays(room, qtbot, at, stack + rendered(session.guides[1], ()))
    music = room.views.panel.rows[session.guides[1].id]
    assert music.gain is None
    click_row(room, music.item_id, qtbot)
    assert music.gain.isVisible() and not music.pan.isVisible() and workspace.part.id == parts[0].id
    click_row(room, music.item_id, qtbot)
    assert not music.gain.isVisible() and "dB" in music.accessibleDescription()
    click_row(room, "part-3", qtbot)
    room.hearing.set_hear("with the stack")
    press(room, Qt.Key.Key_U, qtbot=qtbot)
    row = room.views.panel.rows["part-3"]
    assert row.mute.isChecked() and workspace.session.part("part-3").listening.muted
    qtbot.mouseClick(row.mute, Qt.MouseButton.LeftButton)
    room.views.panel.rows["part-3"].pan.moved.emit(-0.5, 0)
    assert workspace.session.part("part-3").listening == Listening(0.0, -0.5, False)
    press(room, Qt.Key.Key_E, qtbot=qtbot)
    assert plays(room, qtbot, at, rendered(workspace.part, workspace.part.plan))
    press(room, Qt.Key.Key_E, qtbot=qtbot)
    room.hearing.set_compare("as sung")
    others = sum(rendered(p, p.plan) for p in workspace.session.parts[:4] if p.id != "part-3")
    assert plays(room, qtbot, at, others + rendered(workspace.part, ()))
    room.views.transport.all.click()
    assert plays(room, qtbot, at, sum(rendered(p, ()) for p in workspace.session.parts[:4]))
    room.hearing.set_compare("removed")
    everything = sum(rendered(p, ()) - rendered(p, p.plan) for p in workspace.session.parts[:4])
    assert np.abs(everything).max() > 1e-4 and plays(room, qtbot, at, everything)


def test_a_part_that_starts_later_lies_where_it_sounds(room, qtbot):
    all_found(room, qtbot)
    workspace = room.workspace
    workspace.viewport.show(30.0, 40.0)
    click_row(room, "part-5", qtbot)
    assert workspace.offset == 22.0 and workspace.viewport.span == pytest.approx((8.0, 18.0))
    room.hearing.seek(10.0)
    assert room.hearing.heard_at() == pytest.approx(10.0, abs=1e-3)
    qtbot.waitUntil(lambda: room.views.transport.clock.text() == "0:32.00", timeout=1_000)
    press(room, Qt.Key.Key_PageDown, qtbot=qtbot)
    assert workspace.selected_time in workspace.take.phrases
    press(room, Qt.Key.Key_PageDown, SHIFT, qtbot)
    assert workspace.selected_time in workspace.take.words
    press(room, Qt.Key.Key_Home, qtbot=qtbot)
    assert workspace.viewport.span == pytest.approx((-22.0, workspace.session.span[1] - 22.0))
    room.grab()


def test_markers_are_named_walked_and_removed(room, qtbot, monkeypatch):
    workspace = room.workspace
    assert [m.name for m in workspace.session.markers] == ["First chorus", "Second chorus", "Last chorus"]
    room.hearing.seek(5.0)
    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_, **__: ("Verse", True))
    press(room, Qt.Key.Key_K, qtbot=qtbot)
    assert workspace.session.markers[0].name == "Verse" and workspace.session.markers[0].at == pytest.approx(
        5.0, abs=0.01
    )
    press(room, Qt.Key.Key_PageDown, CTRL, qtbot)
    assert room.hearing.heard_at() == pytest.approx(16.9, abs=0.01)
    press(room, Qt.Key.Key_PageUp, CTRL, qtbot)
    assert room.hearing.heard_at() == pytest.approx(5.0, abs=0.01)
    room.views.menu.markers.aboutToShow.emit()
    inner = next(a.menu() for a in room.views.menu.markers.actions() if a.menu() is not None)
    next(a for a in inner.actions() if a.text() == "Remove").trigger()
    assert workspace.session.markers[0].name == "First chorus"


def test_a_note_is_written_at_a_mark_walked_to_and_taken_away(room, qtbot, monkeypatch):
    """It decides nothing, is undone like any step, and is carried from another part back to its mark."""
    workspace, said = room.workspace, ["ask the singer"]
    all_found(room, qtbot)
    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_, **__: (said[0], True))
    press(room, key("Esses"), qtbot=qtbot)
    workspace.select_marks([], show=False)
    press(room, Qt.Key.Key_K, SHIFT, qtbot)
    assert len(workspace.session.markers) == 3, "no mark, no note"
    first, mark = workspace.part, workspace.part.undecided("ess")[1]
    workspace.select_marks([mark.id])
    press(room, Qt.Key.Key_K, SHIFT, qtbot)
    assert "note: ask the singer" in room.views.lens.numbers.text()
    assert workspace.part.mark(mark.id) in workspace.part.undecided("ess")
    workspace.select_part(workspace.session.parts[2].id)
    press(room, key("Breaths"), qtbot=qtbot)
    room.views.menu.markers.aboutToShow.emit()
    row = next(a.menu() for a in room.views.menu.markers.actions() if "ask the singer" in a.text())
    next(a for a in row.actions() if a.text() == "Go there").trigger()
    assert (workspace.part.id, workspace.mark.id, workspace.pass_.kind) == (first.id, mark.id, "ess")
    said[0] = ""
    press(room, Qt.Key.Key_K, SHIFT, qtbot)
    assert "note:" not in room.views.lens.numbers.text() and len(workspace.session.markers) == 3
    press(room, Qt.Key.Key_Z, CTRL, qtbot)
    assert "note: ask the singer" in room.views.lens.numbers.text()


def test_the_history_goes_to_any_step(room, qtbot):
    workspace = room.workspace
    workspace.settings.set_setting("ceiling_db", -7.0)
    workspace.settings.set_setting("limit_db", -9.0)
    press(room, Qt.Key.Key_D, qtbot=qtbot)
    press(room, Qt.Key.Key_H, CTRL, qtbot)
    page = room.findChild(HistoryPage)
    texts = [page.steps.item(i).text().split(maxsplit=1)[1] for i in range(page.steps.count())]
    assert texts == [
        "as it was opened",
        "ceiling −7.0 dB · Lead",
        "at most −9.0 dB · Lead",
        "Esses done · Lead",
    ]
    box = page.steps.visualItemRect(page.steps.item(1))
    qtbot.mouseClick(page.steps.viewport(), Qt.MouseButton.LeftButton, pos=box.center())
    assert workspace.part.ess.ceiling_db == -7.0 and workspace.part.ess.limit_db == -12.0 and not workspace.part.done
    assert len(workspace.keeper.history.steps) == 4
    workspace.keeper.go(3)
    assert workspace.part.done == ("ess",)


def test_missing_recordings_are_asked_for_and_the_rest_works_on(window, songs, qtbot, tmp_path):
    (songs / "broken.wav").unlink()
    drop(window, [songs])
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=10_000)
    room = window.work_page
    all_found(room, qtbot)
    room.workspace.settings.set_setting("ceiling_db", -9.0)
    assert room.workspace.keeper.save(tmp_path / "song.isophon")
    (tmp_path / "moved").mkdir()
    for name in ("bgv low.wav", "dbl.wav"):
        shutil.move(songs / name, tmp_path / "moved" / name)
    room = opened(window, tmp_path / "song.isophon", qtbot)
    assert "2 recordings cannot be used" in room.views.message.text()
    workspace = room.workspace
    low, double = (next(p for p in workspace.session.parts if p.name == name) for name in ("bgv low", "dbl"))
    click_row(room, low.id, qtbot)
    assert "no such file" in workspace.take.trouble and len(workspace.marks) > 3
    room.grab()
    press(room, key("Lay out"), qtbot=qtbot)
    room.views.layout_page.relink(low.id, tmp_path / "moved" / "bgv low.wav")
    assert "1 other missing" in room.views.message.text()
    assert workspace.session.part(low.id).marks == low.marks and workspace.session.part(double.id).source.path.endswith(
        "moved/dbl.wav"
    )
    qtbot.waitUntil(lambda: workspace.take.surveyed is not None, timeout=20_000)
    assert not workspace.take.trouble
    lead = next(p for p in workspace.session.parts if p.name == "lead vox")
    room.views.layout_page.relink(lead.id, songs / "lead vox.wav")
    assert workspace.pool.take(lead.source).recording.read(20_000, 4_000).any(), "what is in use stays open"


def test_work_in_the_background_stops_and_goes_on(window, songs, qtbot):
    (songs / "broken.wav").unlink()
    rng = np.random.default_rng(1)
    write(songs / "long harmony.wav", rng.standard_normal(48_000 * 90) * 0.01, 48_000)
    drop(window, [songs])
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=10_000)
    room = window.work_page
    qtbot.waitUntil(
        lambda: not room.views.panel.stop.isHidden(), timeout=5_000
    )  # the page of the parts is not open yet
    room.workspace.pool.stop()
    qtbot.waitUntil(lambda: room.workspace.pool.overall()[1] == 0, timeout=10_000)
    assert not all(p.found for p in room.workspace.session.parts)
    qtbot.waitUntil(lambda: room.views.panel.stop.text() == "Go on", timeout=2_000)
    qtbot.mouseClick(room.views.panel.stop, Qt.MouseButton.LeftButton)
    all_found(room, qtbot)


def test_a_crash_loses_nothing_of_a_whole_session(window, room, qtbot):
    all_found(room, qtbot)
    workspace = room.workspace
    press(room, Qt.Key.Key_A, CTRL, qtbot)
    workspace.settings.set_setting("ceiling_db", -9.0)
    workspace.analysis.look_again()
    qtbot.waitUntil(lambda: "Found again" in room.views.message.text(), timeout=20_000)
    press(room, Qt.Key.Key_D, qtbot=qtbot)
    assert unsaved_work() == []  # while it is open here
    time.sleep(0.6)
    crash(workspace)
    kept = replay(unsaved_work()[0][1]).history
    assert [name for name, _ in kept.steps] == [name for name, _ in workspace.keeper.history.steps]
    assert kept.session == workspace.session


def test_a_damaged_session_opens_from_its_journal(window, room, qtbot):
    all_found(room, qtbot)
    workspace = room.workspace
    workspace.settings.set_setting("ceiling_db", -7.5)
    path = workspace.keeper.saved_as
    workspace.keeper.save(path)
    path.write_text(path.read_text()[:900])
    again = opened(window, path, qtbot)
    assert "is damaged" in again.views.message.text() and "journal" in again.views.message.text()
    assert again.workspace.part.ess.ceiling_db == -7.5
    again.workspace.keeper.save(path)
    assert file.load(path) == again.workspace.session


def test_the_window_remembers_its_shape(window, room, qtbot):
    window.resize(1180, 760)
    qtbot.wait(50)
    usual = room.views.work.sizes()
    grip = room.views.work.handle(1)
    drag(qtbot, grip, grip.rect().center(), grip.rect().center() - QPoint(0, 40))
    sizes = room.views.work.sizes()
    assert sizes[0] < usual[0] - 30
    press(room, key("Pops"), qtbot=qtbot)
    assert room.views.work.sizes() == pytest.approx(usual, abs=3), "each pass has its own"
    press(room, key("Esses"), qtbot=qtbot)
    assert room.views.work.sizes() == pytest.approx(sizes, abs=3)
    window.close()
    other = Window()
    qtbot.addWidget(other)
    other.show()
    assert other.height() == 760  # the width is held within the screen, which is narrow here
    assert opened(other, room.workspace.keeper.saved_as, qtbot).views.work.sizes() == pytest.approx(sizes, abs=3)
    other.close()


def test_slow_stages_are_rendered_ahead_and_then_read(window, demo, qtbot, tmp_path):
    room = opened(window, excerpt(demo, tmp_path, 16, 34, (0, 1)), qtbot)
    workspace, ahead = room.workspace, room._ahead
    qtbot.waitUntil(lambda: ahead.done, timeout=180_000)  # the workers come after everything else
    renderers = [workspace.pool.take(p.source).renderer for p in workspace.session.parts]
    for part, renderer in zip(workspace.session.parts, renderers, strict=True):
        renderer.cleaned(part.plan, 400_000, 200_000)
    assert [r.heads_made for r in renderers] == [0] * len(renderers), "all was read"
    part, renderer = workspace.part, workspace.take.renderer
    place = take_cache.place_of(workspace.take.recording.path)
    names = renderer.head_names(part.plan)
    press(room, key("Esses"), qtbot=qtbot)
    workspace.walk(1, True)
    workspace.commands.toggle_leave()
    assert workspace.part.plan != part.plan and renderer.head_names(workspace.part.plan) == names
    workspace.settings.set_of_kind("rumble", "cut_hz", 140.0)
    assert not ahead.done
    qtbot.waitUntil(lambda: ahead.done, timeout=180_000)
    made = renderer.heads_made  # by the pictures meanwhile
    renderer.cleaned(workspace.part.plan, 600_000, 200_000)
    assert renderer.heads_made == made and renderer.head_names(workspace.part.plan) != names
    workspace.undo()
    assert all(kept_head(place, name, 1) is not None for name in names.values()), "what is undone is there still"
    name = names[0]
    (tmp_path / "damaged").write_bytes(b"cut short")
    (tmp_path / "damaged").replace(place / "heads" / f"{name}.npy")  # what is mapped by others stays whole
    assert kept_head(place, name, 1) is None and kept_head(place, "../heads/" + name, 1) is None


def test_results_stand_in_the_order_of_the_session_whichever_part_is_done_first(qtbot, tmp_path):
    source = Source("take.wav", 48_000, 1, 48_000)
    parts = [Part(f"part-{i}", name, source, "lead") for i, name in enumerate(("Ada", "Ben", "Cy"))]
    side = {"loudness_lufs": -20.0, "true_peak_dbtp": -1.0, "floor_dbfs": -60.0}
    row = {"before": side, "after": side | {"loudness_lufs": -21.0}, "kinds": {"ess": {"changed": 2, "count": 9}},
           "trim_db": 0.0, "depth": "24", "output": "take.clean.wav"}  # fmt: skip
    table = ResultsTable()
    qtbot.addWidget(table)
    for _ in range(2):  # handed over twice
        table.begin(parts)
        table.add("part-2", row | {"trim_db": -0.4}, "24", tmp_path)
        table.add_line("part-1", "cancelled")
        table.add("part-0", row, "24", tmp_path)
        assert [table.item(at, 0).text() for at in range(table.rowCount())] == ["Ada", "Ben", "Cy", "Cy"]
        assert [table.columnSpan(at, 1) > 1 for at in range(4)] == [False, True, False, True]
    assert table.item(0, 1).text() == "−20.0 → −21.0" and "turned down by 0.4 dB" in table.item(3, 1).text()
    heads = [table.horizontalHeaderItem(i).text() for i in range(table.columnCount())]
    assert table.item(0, heads.index("Esses")).text() == "2 of 9"
    assert table.height() >= 4 * table.rowHeight(0) + table.horizontalHeader().height()
    with qtbot.waitSignal(table.part_asked) as asked:
        table.cellActivated.emit(3, 0)
    assert asked.args == ["part-2"]


def test_stems_that_fit_anywhere_are_looked_at_and_then_written_as_a_whole(window, songs, qtbot, tmp_path):
    """Names by a pattern, all as long as the song, with the proof and marks as cue points, in a folder that is there
    once everything is in it."""
    drop(window, [songs / "lead vox.wav", songs / "dbl.wav"])
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=10_000)
    room = window.work_page
    all_found(room, qtbot)
    late = next(p for p in room.workspace.session.parts if p.name == "dbl")
    room.workspace.edit("move", lambda s: layout.set_offset(s, late.id, 1.5))
    press(room, key("Hand over"), qtbot=qtbot)
    page, out = room.views.hand_over, tmp_path / "out"
    page.form.folder.setText(str(out))
    beside = {p.name for p in tmp_path.iterdir()}
    qtbot.keyClicks(page.form.name, "{number} {part}, {role}")
    for box in (page.form.together, page.form.all_or_nothing, page.form.proof, page.form.cues):
        qtbot.mouseClick(box, Qt.MouseButton.LeftButton, pos=QPoint(8, box.height() // 2))
        assert box.isChecked()
    assert "01 lead vox, lead.clean.wav" in page.will.text(), page.will.text()
    qtbot.mouseClick(page.look, Qt.MouseButton.LeftButton)
    seen = room.findChild(ProofPage)
    assert seen.isVisible() and "dbl" in seen.page.toPlainText() and not out.exists(), "looked at, nothing is written"
    seen.accept()
    qtbot.mouseClick(page.write, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "read back and compared" in page.outcome.text(), timeout=60_000)
    names = ["01 lead vox, lead.clean.wav", "02 dbl, double.clean.wav"]
    assert sorted(p.name for p in out.iterdir()) == [*names, "report.html", "report.json"]
    assert {p.name for p in tmp_path.iterdir()} == {*beside, "out"}, "nothing half made is left beside it"
    lead, double = (sf.read(out / name)[0] for name in names)
    assert len(lead) == len(double) == round(room.workspace.session.span[1] * 22_050)
    assert not np.any(double[: round(1.45 * 22_050)]) and np.any(double[round(1.5 * 22_050) :])
    assert b"cue " in (out / names[0]).read_bytes() and b"bext" in (out / names[0]).read_bytes()
    rows = [page.table.item(row, 0).text() for row in range(page.table.rowCount())]
    told = [row["output"] for row in json.loads((out / "report.json").read_text())["files"]]
    assert rows == ["lead vox", "dbl"] and told == names
    page.table.cellActivated.emit(next(row for row, name in enumerate(rows) if "dbl" in name), 0)
    assert room.workspace.part.id == late.id and room.views.pages.currentWidget() is not page, "a row opens its part"


def test_the_song_is_laid_out_as_rows_that_play_and_are_dragged(room, qtbot):
    """Leads on top, references below; a click plays a row alone from there; a drag sets its start in one step."""
    workspace, page, chart = room.workspace, room.views.layout_page, room.views.layout_page.chart
    press(room, Qt.Key.Key_1, qtbot=qtbot)
    qtbot.waitUntil(lambda: chart.isVisible() and chart.width() > 300, timeout=2_000)
    names = [item.name for item in chart.rows]
    assert names[0] == "Lead" and names[-2:] == ["Cue", "Music"]
    row = names.index("Ad-libs")
    late = next(p for p in workspace.session.parts if p.name == "Ad-libs")
    box = chart.row_box(row)
    at = QPoint(round(chart.x_of(30.0)), round(box.center().y()))
    qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, pos=at)
    player = room.hearing.player
    qtbot.waitUntil(lambda: player.playing, timeout=2_000)
    assert workspace.part.id == late.id and abs(player.position / player.sample_rate - 30.0) < 1.5
    player.stop()
    steps = workspace.keeper.history.at
    to = QPointF(chart.x_of(33.0), box.center().y())
    drag(qtbot, chart, QPointF(at), to)
    moved = workspace.session.part(late.id).offset_s
    assert moved == pytest.approx(late.offset_s + 3.0, abs=0.1) and workspace.keeper.history.at == steps + 1
    rows = range(page.table.rowCount())
    start = [page.table.item(r, 3).text() for r in rows if page.table.item(r, 0).text() == "Ad-libs"]
    assert start == [f"{moved:.3f} s"]
    workspace.undo()
    music = QPoint(round(chart.x_of(10.0)), round(chart.row_box(len(names) - 1).center().y()))
    qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, pos=music)
    played = [item.name for item in workspace.session.items if room.hearing.sounds(item.id)]
    press(room, key("Esses"), qtbot=qtbot)
    assert played == ["Music"] and room.hearing.hear == "this part" and not workspace.audition.heard_only


def test_a_session_is_collected_in_a_folder_and_the_work_goes_on(room, tmp_path, qtbot, monkeypatch):
    (tmp_path / "usb").mkdir()
    monkeypatch.setattr("isophon.app.pages.collecting.folder_to_use", lambda *_: tmp_path / "usb")
    before = room.workspace.keeper.saved_as
    room.views.menu.collect_asked.emit()
    qtbot.waitUntil(lambda: "Copied as" in room.views.message.text(), timeout=20_000)
    collected = file.load(tmp_path / "usb" / "song" / "song.isophon")
    assert len(collected.items) == 7 and room.workspace.keeper.saved_as == before
    assert all(str(tmp_path / "usb") in item.source.path for item in collected.items)
    room.views.menu.collect_asked.emit()
    qtbot.waitUntil(lambda: "holds something" in room.views.message.text(), timeout=20_000)


def test_markers_are_imported_as_one_step_and_a_wrong_list_is_said(room, tmp_path, qtbot, monkeypatch):
    labels = tmp_path / "labels.txt"
    monkeypatch.setattr("isophon.app.views.session_menu.file_to_open", lambda *_: labels)
    before, steps = room.workspace.session.markers, room.workspace.keeper.history.at
    labels.write_text("1.5\t1.5\tCount in\n2.0\t2.0\tVerse\n")
    room.views.menu._import_markers()
    assert [m.name for m in room.workspace.session.markers if m not in before] == ["Count in", "Verse"]
    assert room.workspace.keeper.history.at == steps + 1 and "2 markers" in room.views.message.text()
    room.review.undo()
    assert room.workspace.session.markers == before
    labels.write_text("soon\t2\tVerse\n")
    room.views.menu._import_markers()
    assert "line 1" in room.views.message.text() and room.workspace.session.markers == before


def test_tempo_is_imported_counted_on_the_ruler_and_played_from(room, tmp_path, qtbot, monkeypatch):
    song = mido.MidiFile()
    song.tracks.append(
        mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=600_000), mido.MetaMessage("marker", text="A")])
    )
    song.save(tmp_path / "song.mid")
    monkeypatch.setattr("isophon.app.views.session_menu.file_to_open", lambda *_: tmp_path / "song.mid")
    menu, workspace = room.views.menu, room.workspace
    window = room.window()
    ruler = room.views.trace.places.rows()[1].toRect()

    def shown():
        """The ruler's picture, the pointer's place aside."""
        return room.views.trace.grab(ruler).toImage()

    in_seconds = shown()
    window.open_paths([tmp_path / "song.mid"])
    assert "1 marker was" in room.views.message.text() and "Tempo and bars" in room.views.message.text()
    qtbot.waitUntil(lambda: shown() != in_seconds, timeout=5_000)
    menu.markers.aboutToShow.emit()
    count = next(action for action in menu.markers.actions() if action.text() == "Count the ruler in bars")
    assert count.isEnabled() and count.isChecked()
    in_bars = shown()
    count.trigger()
    qtbot.waitUntil(lambda: shown() != in_bars, timeout=5_000)
    assert workspace.session.bars.tempos, "in seconds again"
    count.trigger()
    qtbot.waitUntil(lambda: shown() == in_bars, timeout=5_000)
    panel, hearing = room.views.transport.output_panel, room.hearing
    row = panel.pre_roll.findText("1 bar (2 s without)")
    panel.pre_roll.setCurrentIndex(row)
    panel.pre_roll.activated.emit(row)
    rate = hearing.player.sample_rate
    assert hearing._before(10.0) == pytest.approx((10.0 - 2.4) * rate, abs=1), "a bar of four beats"
    monkeypatch.setattr("isophon.app.views.session_menu.file_to_save", lambda *_: tmp_path / "again.mid")
    menu._export_markers()
    assert "4 markers and notes were written to again.mid" in room.views.message.text()
    assert import_file(layout.new_session("", []), tmp_path / "again.mid").bars.lines(20.0)[1] == pytest.approx(2.4)
    room.review.undo()
    assert not workspace.session.bars.tempos
    assert hearing._before(10.0) == pytest.approx((10.0 - 2.0) * rate, abs=1)


def test_a_row_of_the_results_is_dragged_as_the_file_of_its_stem(room, tmp_path, qtbot):
    all_found(room, qtbot)
    press(room, key("Hand over"), qtbot=qtbot)
    page = room.views.hand_over
    page.form.folder.setText(str(tmp_path / "out"))
    page.form.which.setCurrentText("the selected parts")
    page.start()
    qtbot.waitUntil(lambda: not page._tasks, timeout=60_000)
    table = page.table
    rows = {table.item(row, 0).text(): row for row in range(table.rowCount())}
    data = table.mimeData([table.item(rows["Lead"], column) for column in range(3)])
    assert [url.toLocalFile() for url in data.urls()] == [str(tmp_path / "out" / "Lead.clean.wav")]
    assert table.supportedDropActions() == Qt.DropAction.CopyAction, "never moved out of its folder"
    (tmp_path / "out" / "Lead.clean.wav").unlink()
    assert not table.mimeData([table.item(rows["Lead"], 0)]).urls(), "what is gone is not given away"
