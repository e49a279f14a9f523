"""Line-up, the rule at work, marks along their time and the rough chain, driven as a person would."""

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from driving import drag, excerpt, key, opened, press
from isophon.core.marks import Hand
from isophon.core.passes.timing.stretch import Moved
from isophon.core.playing.mix import Strip, mixed
from isophon.core.session import edits, file, layout
from isophon.core.session.checks import flaw_of_item
from isophon.core.work.messages import HearBeside

Key, SHIFT = Qt.Key, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture(scope="module")
def heard(tmp_path_factory):
    return tmp_path_factory.mktemp("heard") / "song.isophon"


@pytest.fixture
def lined_up(window, demo, heard, tmp_path, qtbot):
    """The demo session, heard beside the lead by the first test that asks for it."""
    path = tmp_path / "song.isophon"
    file.save(file.load(heard if heard.exists() else demo), path)
    room = opened(window, path, qtbot)
    session = lambda: room.workspace.session  # noqa: E731
    qtbot.waitUntil(lambda: all(p.measured.lined_up for p in session().parts if p.role != "lead"), timeout=90_000)
    if not heard.exists():
        file.save(session(), heard)
    room.workspace.select_parts(["part-2"])
    press(room, key("Line-up"), qtbot=qtbot)
    return room


@pytest.fixture
def short(window, demo, tmp_path, qtbot):
    """The lead and two of its stack, in the first chorus alone."""
    return opened(window, excerpt(demo, tmp_path, 16, 34, (0, 1, 2)), qtbot)


def test_hearing_beside_the_lead_is_stopped_goes_on_and_is_heard_anew_when_a_part_is_moved(short, qtbot):
    workspace, pool = short.workspace, short.workspace.pool
    stack = [p.id for p in workspace.session.parts if p.role != "lead"]
    asked = lambda: [task for task in pool._tasks.values() if isinstance(task.request, HearBeside)]  # noqa: E731
    qtbot.waitUntil(lambda: bool(asked()), timeout=60_000)
    pool.stop()
    qtbot.waitUntil(lambda: pool.overall()[1] == 0, timeout=10_000)
    assert not all(workspace.session.part(i).heard_beside for i in stack)
    pool.resume(workspace.session)
    qtbot.waitUntil(lambda: all(workspace.session.part(i).heard_beside for i in stack), timeout=90_000)
    before, steps = workspace.session.part("part-2"), len(workspace.keeper.history.steps)
    workspace.edit("move", lambda s: layout.set_offset(s, "part-2", before.offset_s + 0.25))
    qtbot.waitUntil(lambda: workspace.session.part("part-2").heard_beside not in ("", before.heard_beside),
                    timeout=60_000)  # fmt: skip
    after = workspace.session.part("part-2")
    late = [np.median([m.late_ms for m in part.of_kind("timing")]) for part in (before, after)]
    assert late[1] - late[0] == pytest.approx(250, abs=20), "it is heard where it lies now"
    assert len(workspace.keeper.history.steps) == steps + 1, "what is found is no step"
    copy = replace(after, id="part-9", name="Lead double again", offset_s=before.offset_s + 0.1, heard_beside="")
    back = lambda s: layout.set_offset(s, "part-2", before.offset_s)  # noqa: E731
    workspace.edit("two of one recording", lambda s: replace(back(s), parts=(*back(s).parts, copy)))
    both = lambda: [workspace.session.part(name) for name in ("part-2", "part-9")]  # noqa: E731
    qtbot.waitUntil(lambda: both()[0].heard_beside == before.heard_beside and both()[1].heard_beside != "",
                    timeout=60_000)  # fmt: skip
    late = [np.median([m.late_ms for m in part.of_kind("timing")]) for part in both()]
    assert late[1] - late[0] == pytest.approx(100, abs=20), "neither of two parts with one recording puts off the other"


def test_a_request_that_failed_is_asked_again_and_what_goes_on_failing_is_told(short, qtbot, monkeypatch):
    workspace, pool = short.workspace, short.workspace.pool
    asked, real = [], pool.hear_beside

    def fails(source, leads, key, part):
        asked.append(part)
        if asked.count(part) <= (1 if part == "part-2" else 99):
            pool.beside_failed.emit(part, "the process that worked on it ended")
        else:
            real(source, leads, key, part)

    both = "part-2", "part-3"
    qtbot.waitUntil(lambda: all(workspace.session.part(i).heard_beside for i in both), timeout=90_000)
    before = workspace.session.part("part-2").heard_beside
    monkeypatch.setattr(pool, "hear_beside", fails)
    for part_id in both:
        workspace.edit("move", lambda s, i=part_id: layout.set_offset(s, i, s.part(i).offset_s + 0.2))
    qtbot.waitUntil(lambda: workspace.session.part("part-2").heard_beside not in ("", before), timeout=90_000)
    qtbot.wait(300)
    assert asked.count("part-2") == 2 and asked.count("part-3") == 3, "three times, then it is left"
    assert "worked on it ended" in short.views.message.text()


def test_another_part_than_the_lead_can_be_followed(lined_up, qtbot):
    """A choice in the sheet, one step of undo; the part is heard anew beside that one, which is then on the left."""
    workspace, choice = lined_up.workspace, lined_up.sheet.extras.follows
    before = workspace.part
    names = [action.text() for action in choice.menu().actions()]
    assert choice.text() == "the lead" and before.name not in names
    choice.menu().actions()[1].trigger()
    other = next(p.id for p in workspace.session.parts if p.name == names[1])
    assert choice.text() == names[1]
    assert workspace.part.follows == other and workspace.session.followed_by(workspace.part).id == other
    qtbot.waitUntil(lambda: workspace.part.heard_beside != before.heard_beside, timeout=60_000)
    late = [np.median([abs(m.late_ms) for m in part.of_kind("timing")]) for part in (before, workspace.part)]
    assert late[1] < late[0], "both are late against the lead alike, so they are nearer to one another"
    esses = [[m.partner_s for m in part.of_kind("ess")] for part in (before, workspace.part)]
    assert esses[0] == esses[1], "esses go by the lead's all the same"
    lined_up.hearing.set_hear("with the lead")
    heard = {
        item.id: lined_up.hearing._gains(item) for item in workspace.session.items if lined_up.hearing.sounds(item.id)
    }
    assert set(heard) == {workspace.part.id, other} and heard[other][1] == 0 == heard[workspace.part.id][0]
    press(lined_up, Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot=qtbot)
    assert workspace.part.follows == "" and choice.text() == "the lead"


def test_words_are_seen_moved_and_pinned(lined_up, qtbot):
    """The demo's double is some 50 ms late on purpose; its words land 8 ms after the lead's."""
    workspace, skyline = lined_up.workspace, lined_up.views.skyline
    part = workspace.part
    assert part.timing.on and len(workspace.marks) > 20 and "% like the lead" in lined_up.sheet.about.text()
    assert "→ +8 ms; the stack" in lined_up.sheet.extras.words.text()
    assert lined_up.sheet.extras.words.toolTip().count("nine in ten") == 3, "each part's own"
    moved = [m for m in workspace.marks if part.acts(m) and m.start > 18.2]
    mark = moved[0]
    assert mark.late_ms > 35 and mark.late_ms + part.change(mark) == pytest.approx(8, abs=1)
    plan = [t for t in part.plan if isinstance(t, Moved)]
    whole = next(t for t in plan if t.last - t.first == t.length and t.first != t.source)
    rate, count = part.source.sample_rate, whole.last - whole.first
    rest = tuple(t for t in part.plan if not isinstance(t, Moved))
    heard = workspace.take.renderer.cleaned(part.plan, whole.first, count)
    assert np.array_equal(heard, workspace.take.renderer.cleaned(rest, whole.source, count)), "moved whole, as it was"
    workspace.viewport.show(mark.start - 2, mark.end + 2)
    workspace.select_marks([mark.id], show=False)
    qtbot.wait(50)
    bar = next(b for m, b in skyline.places.bars() if m.id == mark.id)
    top = QPointF(bar.center().x(), skyline.places.y_of(mark.late_ms + part.change(mark)))
    drag(qtbot, skyline, top, top + QPointF(0, skyline.places.y_of(0) - skyline.places.y_of(20)))
    assert workspace.part.change(workspace.part.mark(mark.id)) == pytest.approx(part.change(mark) - 20, abs=2)
    press(lined_up, Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    workspace.select_marks([mark.id], show=False)
    press(lined_up, Key.Key_L, qtbot=qtbot)
    assert workspace.part.change(workspace.part.mark(mark.id)) == 0
    at = mark.anchors[0][0]
    assert workspace.part.heard_at(at) == pytest.approx(at, abs=1 / rate)
    qtbot.mouseClick(lined_up.sheet.extras.on, Qt.MouseButton.LeftButton)
    assert not workspace.part.timing.on and not any(isinstance(t, Moved) for t in workspace.part.plan)
    qtbot.mouseClick(lined_up.sheet.extras.all, Qt.MouseButton.LeftButton)
    assert all(p.timing.on for p in workspace.session.parts if p.role in ("double", "harmony"))
    workspace.select_parts(["part-5"])
    assert "does not sing what the lead sings" in lined_up.views.about.text() and skyline.isHidden()


def test_anchors_are_dragged_made_pinned_and_taken_away(lined_up, qtbot):
    workspace, trace = lined_up.workspace, lined_up.views.trace
    mark = next(m for m in workspace.marks if workspace.part.acts(m) and m.start > 18.2 and len(m.anchors) > 1)
    workspace.viewport.show(mark.start - 0.4, mark.end + 0.4)
    workspace.select_marks([mark.id], show=False)
    qtbot.wait(50)
    wave, handles = trace.places.rows()[2], trace.anchors

    def heard(i):
        return workspace.part.heard_at(handles.anchors[i][0])

    def place(i):
        return QPointF(trace.places.x_of(heard(i)), wave.bottom() - 14)

    count, before, last = len(handles.anchors), heard(0), heard(-1)
    drag(qtbot, trace, place(0), place(0) + QPointF(trace.places.x_of(0.03) - trace.places.x_of(0), 0))
    assert heard(0) == pytest.approx(before + 0.03, abs=0.004) and heard(-1) == pytest.approx(last, abs=0.002)
    plan = [t for t in workspace.part.plan if isinstance(t, Moved)]
    at = round(handles.anchors[0][0] * workspace.part.source.sample_rate)
    moved = next(t for t in plan if t.source <= at < t.source + t.length)
    by = (moved.first - moved.source) / workspace.part.source.sample_rate
    assert by == pytest.approx(heard(0) - handles.anchors[0][0], abs=0.001), "it is what is heard"
    middle = (handles.anchors[0][0] + handles.anchors[1][0]) / 2
    qtbot.mouseDClick(
        trace, Qt.MouseButton.LeftButton, pos=QPointF(trace.places.x_of(middle), wave.top() + 40).toPoint()
    )
    assert len(handles.anchors) == count + 1 and handles.index == 1
    off = abs(heard(1) - handles.anchors[1][0])
    qtbot.mouseDClick(trace, Qt.MouseButton.LeftButton, pos=place(1).toPoint())
    assert off > 0.01 and abs(heard(1) - handles.anchors[1][0]) < off / 2, "as near as its neighbours let"
    press(lined_up, Key.Key_Delete, qtbot=qtbot)
    assert len(handles.anchors) == count and not workspace.part.mark(mark.id).hand.leave
    trace.setFocus()
    press(trace, Key.Key_Right, qtbot=qtbot)
    press(trace, Key.Key_Right, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert handles.index == 0 and heard(0) == pytest.approx(before + 0.031, abs=0.004)
    for _ in range(5):
        press(lined_up, Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert heard(0) == pytest.approx(before, abs=1e-4) and not workspace.part.mark(mark.id).hand.anchors
    for wrong in (((1.0, 1.0), (0.5, 2.0)), ((0.5, 2.0), (1.0, 1.0))):
        bad = replace(mark, hand=Hand(anchors=wrong))
        part = replace(workspace.part, marks=(bad,))
        assert "hand.anchors" in flaw_of_item(part)


def test_a_chorus_is_carried_on_and_taken_back(lined_up, qtbot):
    workspace, extras = lined_up.workspace, lined_up.sheet.extras.carrying
    assert "select the passage" in extras.choices()[0][0]
    workspace.select_time((16.9, 26.5))
    choices = extras.choices()
    assert choices[0][0].startswith("to 0:43.3") and choices[1][0].startswith("to 1:04.4")
    choices[0][1]()
    rate, renderer = workspace.part.source.sample_rate, workspace.take.renderer
    there = renderer.cleaned(workspace.part.plan, round(43.9 * rate), 3 * rate)
    mark = workspace.part.of_kind("carry")[0]
    by = round(mark.start * rate) - round(mark.from_s * rate)
    assert np.allclose(there, renderer.cleaned(workspace.part.plan, round(43.9 * rate) - by, 3 * rate), atol=1e-6)
    assert extras.choices()[0][0].startswith("undo the copy at 0:43.3")
    extras.choices()[0][1]()
    assert not workspace.part.of_kind("carry")
    press(lined_up, Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert workspace.part.of_kind("carry"), "it is a step like any other"


def test_a_passage_is_carried_to_any_time_with_its_sound_or_its_decisions(lined_up, qtbot):
    """To the playhead, a marker, a typed time; what cannot be is said, and nothing changes."""
    workspace, carrying = lined_up.workspace, lined_up.sheet.extras.carrying
    workspace.select_time((16.9, 20.0))
    lined_up.hearing.seek(50.0)
    words = [row[0] for row in carrying.choices()]
    assert "to the playhead, 0:50.00" in words and any(w.startswith("to Second chorus") for w in words)
    dict(carrying.choices())["to the playhead, 0:50.00"]()
    assert workspace.part.of_kind("carry")[0].start == pytest.approx(50.0, abs=0.01)
    workspace.undo()
    steps = workspace.keeper.history.at
    dict(carrying.choices())["to a time that is typed…"]()
    assert carrying.typed.isVisible()
    carrying.typed.setText("20:00")
    carrying.typed.returnPressed.emit()
    assert "ends at 76.1 s" in lined_up.views.message.text() and workspace.keeper.history.at == steps
    carrying.typed.setText("1:14.5")
    carrying.typed.returnPressed.emit()
    assert "Longer than the recording" in lined_up.views.message.text() and workspace.part.ends_s > 77.0
    past_the_end = Strip(workspace.take.renderer, workspace.part.plan)
    assert mixed((past_the_end,), 48_000, round(76.5 * 48_000), 24_000).cleaned.any()
    press(lined_up, Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert workspace.part.ends_s == workspace.part.source.duration
    carrying.typed.setText("soon")
    carrying.typed.returnPressed.emit()
    assert "no time" in lined_up.views.message.text()
    place = next(m for m in workspace.session.markers if m.name == "Second chorus").at
    chorus = next(m for m in workspace.session.markers if m.name == "First chorus").at
    ess = next(m for m in workspace.part.of_kind("ess") if m.start > 17.0 and m.end < 20.0)
    workspace.edit("hand", lambda s: edits.set_changes(s, workspace.part.id, {ess.id: -7.0}))
    workspace.select_time((16.9, 20.0))
    carrying.what.setCurrentText("its decisions")
    carrying.carry_to(16.9 + place - chorus)
    met = [m for m in workspace.part.of_kind("ess") if m.hand.change_db == -7.0 and m.id != ess.id]
    assert len(met) == 1 and met[0].start == pytest.approx(ess.start + place - chorus, abs=0.1)
    steps = workspace.keeper.history.at
    carrying.carry_to(30.0)
    assert "has its like there" in lined_up.views.message.text() and workspace.keeper.history.at == steps


def test_the_rule_is_started_seen_at_work_and_marks_are_cut_by_keys(room, qtbot):
    workspace = room.workspace
    press(room, key("Esses"), qtbot=qtbot)
    extras = room.sheet.extras
    workspace.settings.set_of_kind("ess", "by", "rule")
    extras.start.setCurrentIndex(3)
    extras.start.activated.emit(3)
    assert workspace.part.ess.rule_ratio == 12.0 and workspace.part.ess.rule_turns == "above"
    loud = max(workspace.marks, key=lambda m: m.standout_db)
    workspace.select_marks([loud.id])
    picture = room.sheet.picture
    qtbot.waitUntil(lambda: picture.shown == "the rule at work" and picture._chunk is not None, timeout=10_000)
    assert picture._chunk[3].max() > 3, "it takes off some of the loudest ess"
    assert workspace.pass_.skyline.seen_change(workspace.part, loud) < -3
    workspace.settings.set_of_kind("ess", "by", "ceiling")
    count, longest = len(workspace.marks), max(workspace.marks, key=lambda m: m.end - m.start)
    workspace.select_marks([longest.id])
    press(room, Key.Key_Slash, qtbot=qtbot)
    assert len(workspace.marks) == count + 1
    workspace.select_marks([longest.id, workspace.mark.id])
    press(room, Key.Key_Asterisk, qtbot=qtbot)
    assert len(workspace.marks) == count and workspace.part.mark(longest.id).span == pytest.approx(
        longest.span, abs=1e-3
    )
    workspace.select_marks([longest.id])
    pictures = room.views.lens.pictures
    box = pictures.mark_box(workspace.mark, pictures.boxes()[1])
    qtbot.mouseDClick(pictures, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    ((share, db),) = workspace.mark.hand.shape
    assert share == pytest.approx(0.5, abs=0.1) and db < -3


def test_through_the_rough_chain_and_never_into_a_file(room, qtbot):
    workspace, transport = room.workspace, room.views.transport
    press(room, Key.Key_R, qtbot=qtbot)
    assert transport.rough.isChecked() and room.hearing.player.chain
    plan = workspace.part.plan
    room.hearing.set_looping(False)
    room.hearing.seek(6.6)
    room.hearing.toggle_play()
    qtbot.wait(900)
    room.hearing.player.stop()
    qtbot.wait(60)
    heard = room.hearing.player.device.played()
    assert not np.allclose(heard[0], heard[1]), "the room is not the same on both sides"
    assert workspace.part.plan == plan
    press(room, key("Esses"), qtbot=qtbot)
    before = [b.height() for _, b in room.views.skyline.places.bars()]
    qtbot.mouseClick(room.views.will_sound, Qt.MouseButton.LeftButton)
    assert np.median([b.height() for _, b in room.views.skyline.places.bars()]) != np.median(before)
    soft, loud = (
        room.views.skyline.places.stands_out(f(workspace.marks, key=lambda m: m.standout_db)) for f in (min, max)
    )
    marks = sorted(workspace.marks, key=lambda m: m.standout_db)
    assert loud - soft < marks[-1].standout_db - marks[0].standout_db, "the compressor brings them together"
    press(room, Key.Key_R, qtbot=qtbot)
    assert not transport.rough.isChecked() and not room.hearing.player.chain


def test_the_band_that_the_rule_listens_to_is_dragged_over_the_map_and_heard(room, qtbot):
    workspace, trace = room.workspace, room.views.trace
    press(room, key("Esses"), qtbot=qtbot)
    assert trace.limits.shown is None
    workspace.settings.set_of_kind("ess", "by", "rule")
    low, high = trace.limits.shown
    spectrum, axis = trace.places.rows()[3], workspace.pass_.trace.axis

    def place(hz):
        return QPointF(spectrum.left() + 0.3 * spectrum.width(), spectrum.top() + axis.place(hz) * spectrum.height())

    steps = len(workspace.keeper.history.steps)
    drag(qtbot, trace, place(low), place(3_500.0))
    assert workspace.part.ess.rule_low_hz == pytest.approx(3_500, rel=0.02) and trace.limits.shown[1] == high
    assert len(workspace.keeper.history.steps) == steps + 1, "one gesture is one step"
    workspace.settings.set_of_kind("ess", "rule_high_hz", 9_000.0)
    qtbot.mousePress(trace, Qt.MouseButton.LeftButton, pos=place(9_000.0).toPoint())
    with_shift = QMouseEvent(QEvent.Type.MouseMove, place(12_000.0), trace.mapToGlobal(place(12_000.0)),
                             Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, SHIFT)  # fmt: skip
    QApplication.sendEvent(trace, with_shift)
    qtbot.mouseRelease(trace, Qt.MouseButton.LeftButton, SHIFT, place(12_000.0).toPoint())
    assert workspace.part.ess.rule_high_hz == pytest.approx(12_000, rel=0.02)
    assert workspace.part.ess.rule_low_hz == pytest.approx(3_500 * 4 / 3, rel=0.03), "both move alike"
    trace.grab()
    qtbot.keyPress(room, Key.Key_B, SHIFT)
    assert room.hearing.alone.band[:2] == trace.limits.shown
    assert room.hearing.player.scene[0].plan == workspace.part.plan_without(("ess",)), "as it comes to the rule"
    qtbot.keyRelease(room, Key.Key_B, SHIFT)
    assert room.hearing.alone.band is None
    workspace.undo()
    assert workspace.part.ess.rule_high_hz == 9_000.0
    workspace.select_marks([workspace.marks[0].id])
    pictures, now = room.views.lens.pictures, workspace.part.ess.rule_low_hz
    box = pictures.boxes()[1]

    def inside(hz):
        return QPointF(box.left() + 0.9 * box.width(), box.top() + pictures.axis.place(hz) * box.height())

    drag(qtbot, pictures, inside(now), inside(6_000.0))
    assert workspace.part.ess.rule_low_hz == pytest.approx(6_000, rel=0.03), "over the lens too"
