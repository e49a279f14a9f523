"""What a hand expects of any window: focus, sizes, drawing, seeking, undo of decisions only, and keys everywhere."""

import itertools

import pytest
import soundfile as sf
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QContextMenuEvent, QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QDialog, QMenu

from conftest import write
from driving import crash, key, press
from isophon.app.model.state import unsaved_work
from isophon.app.pages.layout_page import FILTER
from isophon.app.pages.route import HAND_OVER, LAY_OUT
from isophon.app.views.clock_field import seconds_of
from isophon.app.window import _FILTER, Window
from isophon.core.audio.leak import Leak
from isophon.core.session.journal import replay
from voices import spoken

Key, LEFT = Qt.Key, Qt.MouseButton.LeftButton
CTRL, SHIFT, NONE = (Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier,
                     Qt.KeyboardModifier.NoModifier)  # fmt: skip


def moved(widget, points, held):
    """A drag with keys held, which the test library cannot make."""
    QTest.mousePress(widget, LEFT, held, points[0])
    for at in points[1:]:
        QApplication.sendEvent(widget, QMouseEvent(QEvent.Type.MouseMove, QPointF(at), QPointF(widget.mapToGlobal(at)),
                                                   Qt.MouseButton.NoButton, LEFT, held))  # fmt: skip
    QTest.mouseRelease(widget, LEFT, held, points[-1])


def test_drawing_works_in_map_and_lens_by_ctrl_and_by_a_switch_that_is_seen(room, qtbot):
    workspace, pictures = room.workspace, room.views.lens.pictures
    press(room, key("Esses"), qtbot=qtbot)
    ess = workspace.marks[3].id

    def spots():
        return len(workspace.part.of_kind("spot"))

    for widget, held in ((pictures, CTRL), (room.views.trace, CTRL), (pictures, NONE), (room.views.trace, NONE)):
        press(room, key("Esses"), qtbot=qtbot)
        workspace.select_marks([ess])
        workspace.viewport.show(workspace.mark.start - 0.5, workspace.mark.end + 0.5)
        if held == NONE:
            assert room.views.draw.isVisible() and not room.views.draw.isChecked()
            press(room, Key.Key_V, qtbot=qtbot)
            assert room.views.draw.isChecked()
        before = spots()
        area = pictures.boxes()[0] if widget is pictures else room.views.trace.places.rows()[3]
        corners = [QPoint(round(area.left() + area.width() * x), round(area.top() + area.height() * y))
                   for x, y in ((0.3, 0.3), (0.4, 0.5), (0.6, 0.7))]  # fmt: skip
        moved(widget, corners, held)
        assert spots() == before + 1, (widget, held)
        if held == NONE:
            press(room, Key.Key_Escape, qtbot=qtbot)
            assert not room.views.draw.isChecked() and spots() == before + 1, (
                "Esc ends drawing, and keeps what was drawn"
            )


def test_the_page_has_the_focus_after_every_change_and_space_plays(room, qtbot):
    player = room.hearing.player
    for station in ("Floor", "Bleed", "Hand over", "Lay out", "Esses"):
        room.views.panel.stop.setFocus()
        press(room, key(station), qtbot=qtbot)
        assert QApplication.focusWidget() is room, station
    qtbot.keyClick(QApplication.focusWidget(), Key.Key_Space)
    assert player.playing
    qtbot.keyClick(QApplication.focusWidget(), Key.Key_Space)
    room.views.draw.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(room.views.draw, Key.Key_Space)
    assert room.views.draw.isChecked() and not player.playing, "a control that was reached by Tab"


def test_every_control_has_a_name_and_tab_goes_on_as_the_eye_does(room, qtbot):
    qtbot.waitUntil(lambda: all(p.found for p in room.workspace.session.parts), timeout=90_000)
    for station in ("Lay out", "Floor", "Bleed", "Esses", "Bands", "Line-up", "Hand over"):
        press(room, key(station), qtbot=qtbot)
        qtbot.wait(50)
        room.setFocus()
        walked = []
        for _ in range(300):
            room.focusNextPrevChild(True)
            if QApplication.focusWidget() in walked:
                break
            walked.append(QApplication.focusWidget())
        assert len(walked) > 10 and QApplication.focusWidget() is walked[0], "it comes round"
        for widget in walked:
            named = widget.accessibleName() or widget.toolTip() or getattr(widget, "currentText", str)()
            assert named or (isinstance(widget, QAbstractButton) and widget.text()), (station, widget)
        areas = [
            next(i for i, area in enumerate(room.views.areas()) if area is w or area.isAncestorOf(w)) for w in walked
        ]
        assert areas == sorted(areas), station
        for one, other in itertools.pairwise(walked):
            if areas[walked.index(one)] == areas[walked.index(other)]:
                at = [w.mapTo(room, QPoint(0, w.height() // 2)).y() for w in (one, other)]
                assert at[1] > at[0] - 27, (station, one, other)


def test_a_message_floats_and_goes_with_its_pass(room, qtbot):
    press(room, key("Esses"), qtbot=qtbot)
    before = room.views.pages.geometry()
    room.workspace.troubled.emit("Something went wrong.")
    assert (
        room.views.message.isVisible()
        and room.views.message.property("trouble")
        and room.views.pages.geometry() == before
    )
    room.workspace.notice.emit("Something was done.")
    assert not room.views.message.property("trouble") and room.views.pages.geometry() == before
    press(room, key("Pops"), qtbot=qtbot)
    assert not room.views.message.isVisible()


def test_the_window_fits_a_small_screen(window, room, qtbot):
    for station in ("Lay out", "Floor", "Bleed", "Esses", "Bands", "Spots", "Line-up", "Hand over"):
        press(room, key(station), qtbot=qtbot)
        qtbot.wait(30)
        assert window.minimumSizeHint().width() <= 1024 and window.minimumSizeHint().height() <= 640, station
    window.resize(1024, 640)
    press(room, key("Esses"), qtbot=qtbot)
    qtbot.wait(50)
    rows = sorted(room.views.panel.rows.values(), key=lambda row: row.y())
    for one, other in itertools.pairwise(rows):
        assert other.y() >= one.y() + one.height(), "rows scroll, and never lie over each other"
    first = next(row for row in rows if row.gain is not None)
    assert first.height() >= first.layout().minimumSize().height()


def test_no_sheet_is_clipped_where_its_marks_ought_to_be_looked_for_again(window, room, qtbot):
    workspace = room.workspace
    qtbot.waitUntil(lambda: workspace.part.found, timeout=60_000)
    workspace.keeper.adopt_leak(workspace.part.id, Leak("0123456789abcdef", ("feed.wav",)), ())
    for station in ("Floor", "Bleed", "Pops", "Ticks", "Breaths", "Esses", "Bands", "Spots", "Line-up"):
        press(room, key(station), qtbot=qtbot)
        qtbot.wait(60)
        assert room.sheet.again.isVisible(), station
        scroll = room.views.sheets.currentWidget()
        assert scroll.widget().minimumSizeHint().width() <= scroll.viewport().width(), station


def test_the_ceiling_under_the_pointer_is_taken(room, qtbot):
    workspace, skyline = room.workspace, room.views.skyline
    press(room, key("Esses"), qtbot=qtbot)
    workspace.settings.set_setting("ceiling_db", -8.0)
    workspace.settings.set_setting("usual_db", 2.0)
    for setting, _, level, _ in skyline.places.ceilings():
        at = QPointF(skyline.width() - 40, skyline.places.y_of(level))
        assert skyline.gestures._under(at) == ("ceiling", setting)


def test_undo_takes_back_decisions_of_a_hand_only(window, room, qtbot):
    workspace, history = room.workspace, room.workspace.keeper.history
    workspace.settings.set_setting("ceiling_db", -9.0)
    steps = len(history.steps)
    press(room, Key.Key_U, qtbot=qtbot)
    assert workspace.part.listening.muted and len(workspace.keeper.history.steps) == steps
    workspace.keeper.adopt_leak(workspace.part.id, Leak("0123456789abcdef", ("feed.wav",)), ())
    assert workspace.part.leak is not None and workspace.keeper.unsaved
    press(room, Key.Key_Z, CTRL, qtbot)
    assert workspace.part.ess.ceiling_db != -9.0, "the edit went"
    assert workspace.part.listening.muted and workspace.part.leak is not None, "what is no decision stayed"
    crash(workspace)
    kept = replay(unsaved_work()[0][1])
    assert kept.unsaved and kept.history.session.parts[0].listening.muted
    assert kept.history.session.parts[0].leak == workspace.part.leak


def test_a_session_opens_where_it_was_left_and_hands_over_as_before(window, room, qtbot):
    path = room.workspace.keeper.saved_as
    press(room, key("Hand over"), qtbot=qtbot)
    page = room.views.hand_over
    page.form.name.setText("{number} {part}")
    page.form.labels.setChecked(True)
    page.form.bit_depth.setCurrentIndex(2)
    assert "01 Lead.clean.wav" in page.will.text() and "03 High harmony" in page.will.text()
    window.close()
    again = Window()
    qtbot.addWidget(again)
    again.show()
    again.open_path(path)
    qtbot.waitUntil(lambda: again.work_page is not None, timeout=60_000)
    page = again.work_page.views.hand_over
    assert again.work_page.views.title.route.current == HAND_OVER
    assert (
        page.form.name.text() == "{number} {part}"
        and page.form.labels.isChecked()
        and page.form.bit_depth.currentIndex() == 2
    )
    assert not page.form.force.isChecked(), "writing over files is asked for every time"
    again.close()


def test_the_start_page_works_by_keyboard(window, qtbot, monkeypatch):
    qtbot.wait(50)
    focused = QApplication.focusWidget()
    assert focused is window.start.open and focused.text()
    asked = []
    monkeypatch.setattr(window, "ask_open", lambda: asked.append("open"))
    window.start.open_asked.disconnect()
    window.start.open_asked.connect(lambda: asked.append("open"))
    qtbot.keyClick(focused, Key.Key_Return)
    qtbot.keyClick(focused, Key.Key_O, CTRL)
    assert asked == ["open", "open"]
    qtbot.keyClick(focused, Key.Key_F1)
    qtbot.waitUntil(lambda: bool(window.findChildren(QDialog)), timeout=5_000)
    window.findChildren(QDialog)[0].close()
    window.activateWindow()
    qtbot.keyClick(focused, Key.Key_N, CTRL)
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=30_000)
    room = window.work_page
    assert room.views.title.route.current == LAY_OUT and not room.workspace.session.items
    qtbot.wait(50)
    press(room, Key.Key_W, CTRL, qtbot)
    assert window.work_page is None and window.stack.currentIndex() == 0 and window.start.open.hasFocus()
    qtbot.keyClick(window.start.open, Key.Key_Q, CTRL)
    assert not window.isVisible()


def test_times_are_typed_and_the_wheel_and_menus_do_what_they_do_elsewhere(room, qtbot):
    assert [seconds_of(t) for t in ("1:07.5", "67,5 s", "9", "soon", "")] == [67.5, 67.5, 9.0, None, None]
    press(room, key("Esses"), qtbot=qtbot)
    workspace, trace, clock = room.workspace, room.views.trace, room.views.transport.clock
    qtbot.mouseClick(clock, LEFT)
    clock.selectAll()
    qtbot.keyClicks(clock, "0:12.5")
    qtbot.keyClick(clock, Key.Key_Return)
    assert room.hearing.heard_at() == pytest.approx(12.5 - workspace.offset, abs=0.01) and room.hasFocus()
    workspace.select_time((10.0, 12.0))
    press(room, Key.Key_Z, qtbot=qtbot)
    assert workspace.viewport.span == pytest.approx((9.96, 12.04), abs=0.01)
    press(room, Key.Key_Escape, qtbot=qtbot)
    assert workspace.selected_time is None
    press(room, Key.Key_Home, qtbot=qtbot)

    def wheel(held):
        at = QPointF(trace.width() / 2, trace.height() / 2)
        there = QPointF(trace.mapToGlobal(at.toPoint()))
        QApplication.sendEvent(trace, QWheelEvent(at, there, QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton, held,
                                                  Qt.ScrollPhase.NoScrollPhase, False))  # fmt: skip

    for held in (NONE, CTRL):
        before = workspace.viewport.span
        wheel(held)
        assert workspace.viewport.span[1] - workspace.viewport.span[0] < before[1] - before[0]
    before = workspace.viewport.span
    wheel(SHIFT)
    assert workspace.viewport.span[1] - workspace.viewport.span[0] == pytest.approx(before[1] - before[0])
    assert workspace.viewport.span[0] < before[0]
    press(room, Key.Key_Home, qtbot=qtbot)
    workspace.select_marks([])
    mark = max(workspace.marks, key=lambda m: m.standout_db)
    bar = next(bar for m, bar in room.views.skyline.places.bars() if m is mark)
    for view, at in ((trace, QPoint(round(trace.places.x_of(mark.start)), round(trace.places.rows()[3].center().y()))),
                     (room.views.skyline, bar.center().toPoint()),
                     (room.views.lens.pictures, room.views.lens.pictures.rect().center())):  # fmt: skip
        QApplication.sendEvent(view, QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, view.mapToGlobal(at)))
        menu = next(m for m in room.findChildren(QMenu) if m.isVisible())
        words = [action.text() for action in menu.actions()]
        assert any(text.startswith("Leave as sung") for text in words), view
        assert workspace.mark is not None
        menu.close()
        menu.deleteLater()


def test_music_as_mp3_is_a_reference(window, qtbot, tmp_path):
    samples, rate, _ = spoken("de")
    take = write(tmp_path / "take.wav", samples, rate)
    sf.write(tmp_path / "song.mp3", samples, rate, format="MP3")
    window.open_paths([take, tmp_path / "song.mp3"], anew=True)
    qtbot.waitUntil(lambda: window.work_page is not None, timeout=30_000)
    session = window.work_page.workspace.session
    assert [p.name for p in session.parts] == ["take"] and [g.kind for g in session.guides] == ["bed"]
    assert "*.mp3" in FILTER and "*.mp3" in _FILTER
