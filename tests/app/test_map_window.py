"""The map: what stays in ink and what goes in red, alive under the hand; its room, its labels, its views."""

import itertools
import os
import signal
import time

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QNativeGestureEvent, QPointingDevice, QWheelEvent
from PySide6.QtWidgets import QApplication

from driving import key, press
from isophon.app import theme
from isophon.app.pages.route import STATIONS
from isophon.app.views import anchor_handles, bar_words, ceiling_lines, label_room, mark_layer, marker_lines
from isophon.app.views.map_maker import process
from isophon.core.session import layout


@pytest.fixture
def esses(room, qtbot):
    """The demo's lead, its esses open, six seconds in view, the map sharp."""
    workspace = room.workspace
    qtbot.waitUntil(lambda: workspace.part.found, timeout=60_000)
    press(room, key("Esses"), qtbot=qtbot)
    workspace.viewport.show(6.0, 12.0)
    sharp(room, qtbot)
    return room


def sharp(room, qtbot):
    """Wait until the map is as sharp as it gets."""

    def is_sharp():
        room.views.trace.grab()
        trace = room.views.trace
        made, ratio = trace.map.maker.made, trace.devicePixelRatioF()
        return made is not None and made.wanted == trace.map.sharp(
            room.workspace.viewport.span, trace.places.rows()[3], ratio
        )

    qtbot.waitUntil(is_sharp, timeout=10_000)


def pixels(room):
    """The map as it is seen, ``(rows, columns, colours)``."""
    box = room.views.trace.places.rows()[3].toRect()
    image = (
        room.views.trace.grab(box).toImage().convertToFormat(room.views.trace.grab(box).toImage().Format.Format_RGB32)
    )
    return np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.width(), 4)[:, :, 2::-1].astype(int)


def redness(picture):
    return (picture[:, :, 0] - picture[:, :, 1] - 5).clip(0)  # the paper is a little red


def test_a_moving_view_shows_the_last_picture_where_it_belongs_and_what_is_new_beside_it(esses, qtbot):
    trace, workspace = esses.views.trace, esses.workspace
    by = 120
    (start, end), before = workspace.viewport.span, pixels(esses)
    skyline = esses.views.skyline.grab().toImage()
    second = trace.places.plot_width() / (end - start)
    workspace.viewport.show(start + by / second, end + by / second)
    moving = pixels(esses)
    assert np.array_equal(moving[:, : -by - 4], before[:, by:-4]), "moved by as many pixels, line by line"
    darkness = (255 - moving[:, -by + 4 :]).mean()
    moved = esses.views.skyline.grab().toImage()
    x, y = np.meshgrid(range(200, 500, 3), range(30, skyline.height() - 14, 3))
    points = list(zip(x.ravel().tolist(), y.ravel().tolist(), strict=True))
    same = [skyline.pixel(a + by, b) == moved.pixel(a, b) for a, b in points]
    assert np.mean(same) > 0.97, "the ceilings' words stay where they are"
    sharp(esses, qtbot)
    after = pixels(esses)
    assert darkness == pytest.approx((255 - after[:, -by + 4 :]).mean(), rel=0.25), "roughly what comes into view"
    lines = [trace.map.sharp((6.0, until), trace.places.rows()[3], 1.0).lines for until in (14.9, 15.1)]
    assert lines == [True, False], "by what is in view, however much wider the picture is"
    workspace.viewport.show(start + 30, end + 30)
    far = pixels(esses)
    assert abs(far - after).mean() > 5, "nothing of the old picture is left in a view that shares nothing with it"


def in_box(room, mark, picture):
    """The part of a picture in which a mark lies."""
    trace, axis = room.views.trace, room.workspace.pass_.trace.axis
    box = trace.places.rows()[3]
    left, right = (round(trace.places.x_of(t) - box.left()) for t in mark.span)
    bottom = round(axis.place(mark.low_hz) * box.height())
    return picture[20:bottom, left + 1 : right - 1]


def test_the_ceiling_is_followed_at_once_and_sharply_a_moment_later(esses, qtbot):
    room, workspace = esses, esses.workspace
    mark = max((m for m in workspace.marks if 6.5 < m.start < 11.5), key=lambda m: m.standout_db)
    workspace.settings.set_setting("ceiling_db", 6.0)
    workspace.settings.set_setting("usual_db", 20.0)
    sharp(room, qtbot)
    before = redness(in_box(room, mark, pixels(room))).mean()
    made = room.views.trace.map.maker.made
    workspace.settings.set_setting("ceiling_db", -18.0)
    qtbot.waitUntil(lambda: redness(in_box(room, mark, pixels(room))).mean() > before + 20, timeout=500)
    assert room.views.trace.map.maker.made is made, "before anything is rendered"
    sharp(room, qtbot)
    later = redness(in_box(room, mark, pixels(room))).mean()
    assert later > before + 20
    esses.setFocus()
    qtbot.keyPress(esses, Qt.Key.Key_S)
    sharp(room, qtbot)
    assert redness(pixels(room)).max() < 30, "while S is held it shows as sung"
    qtbot.keyRelease(esses, Qt.Key.Key_S)
    sharp(room, qtbot)
    assert redness(in_box(room, mark, pixels(room))).mean() == pytest.approx(later, abs=2)


def test_it_shows_all_passes_or_this_one_as_the_ear_says(esses, qtbot):
    room, workspace = esses, esses.workspace
    breath = max((m for m, _ in workspace.part.changed("breath") if 6 < m.start < 11.5), key=lambda m: m.end - m.start)
    x = [round(room.views.trace.places.x_of(t) - room.views.trace.places.rows()[3].left()) for t in breath.span]
    every = redness(pixels(room)[:, x[0] + 2 : x[1] - 2]).mean()
    press(room, Qt.Key.Key_X, qtbot=qtbot)
    press(room, Qt.Key.Key_X, qtbot=qtbot)
    assert workspace.audition.aside[0] == "only this pass"
    sharp(room, qtbot)
    assert redness(pixels(room)[:, x[0] + 2 : x[1] - 2]).mean() < 0.2 * every, "no breath goes in the esses alone"


@pytest.mark.parametrize("size,least", [((1024, 640), 240), ((1280, 800), 350), ((1920, 1080), 520)])
def test_the_map_has_the_room(window, room, qtbot, size, least):
    window.setMaximumSize(4_000, 4_000)
    for name in STATIONS[1:-1]:
        press(room, key(name), qtbot=qtbot)
        window.resize(*size)
        qtbot.wait(30)
        if (window.width(), window.height()) != size:
            pytest.skip("the screen is too small for that")
        assert room.views.trace.places.rows()[3].height() >= least, name
        assert (
            room.views.title.height() <= 52 and room.views.transport.height() <= 52 and room.views.parts.width() <= 200
        )
        assert room.views.side.width() <= 300, name


def test_twelve_parts_are_seen_without_scrolling(window, room, qtbot):
    workspace = room.workspace
    sources = [p.source for p in workspace.session.parts]
    arrivals = [layout.Arrival(f"more {i}", sources[i % len(sources)], "harmony") for i in range(7)]
    workspace.edit("more", lambda s: layout.add(s, arrivals))
    window.resize(1280, 800)
    qtbot.wait(100)
    rows = [row for row in room.views.panel.rows.values() if not row.is_guide]
    assert len(rows) == 12 and sum(row.height() == theme.u(40) for row in rows) == 11
    assert not any(row.visibleRegion().isEmpty() for row in rows)


def test_f_gives_the_map_the_window_and_columns_fold(room, qtbot):
    before = room.views.trace.size()
    press(room, Qt.Key.Key_F, qtbot=qtbot)
    qtbot.wait(50)
    assert room.views.trace.width() > before.width() + 400 and room.views.trace.height() > before.height() + 100
    press(room, Qt.Key.Key_F, qtbot=qtbot)
    qtbot.wait(50)
    assert room.views.trace.size() == before
    for column in (room.views.parts, room.views.side):
        qtbot.mouseClick(column.button, Qt.MouseButton.LeftButton)
        assert column.folded and column.width() <= theme.u(24)
        qtbot.mouseClick(column.button, Qt.MouseButton.LeftButton)
        assert not column.folded
    qtbot.wait(50)
    assert room.views.trace.size() == before


def test_the_transport_has_no_place_where_nothing_is_worked_on(room, qtbot):
    press(room, key("Lay out"), qtbot=qtbot)
    assert not room.views.transport.isVisible()
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(room.views.transport.isVisible, timeout=5_000)
    press(room, Qt.Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: not room.views.transport.isVisible(), timeout=5_000)
    press(room, key("Hand over"), qtbot=qtbot)
    assert not room.views.transport.isVisible()
    press(room, key("Esses"), qtbot=qtbot)
    assert room.views.transport.isVisible()


def test_no_label_lies_over_another(esses, qtbot, monkeypatch):
    """Whatever is in view: all labels that were drawn in one picture, in map and skyline."""
    drawn = []

    def noted(painter, box, text, ink):
        drawn.append(QRectF(box))
        label_room.draw_label(painter, box, text, ink)

    for module in (anchor_handles, marker_lines, mark_layer, ceiling_lines, bar_words):
        monkeypatch.setattr(module, "draw_label", noted)
    room, workspace = esses, esses.workspace
    for at in (6.0, 6.1, 6.2, 8.0, 17.0):
        workspace.edit("marker", lambda s, at=at: layout.add_marker(s, at, f"A marker at {at}"))
    for view in (workspace.song, (0.0, 20.0), (5.0, 9.0), (16.0, 18.0)):
        workspace.viewport.show(*view)
        qtbot.waitUntil(
            lambda: not any(w._settled.isActive() or w._soon.due for w in (room.views.trace, room.views.skyline))
        )
        room.views.trace._marked = room.views.skyline._drawn = None
        for widget in (room.views.trace, room.views.skyline):
            drawn.clear()
            widget.grab()
            assert drawn
            assert not any(one.intersects(other) for one, other in itertools.combinations(drawn, 2))


def test_what_has_no_room_is_told_on_pointing(esses, qtbot):
    room, workspace, trace = esses, esses.workspace, esses.views.trace
    for at in (8.0, 8.01):
        workspace.edit("marker", lambda s, at=at: layout.add_marker(s, at, f"A marker at {at}"))
    qtbot.mouseMove(trace, QPoint(round(trace.places.x_of(8.0)), trace.height() // 2))
    assert "A marker at 8.0\nA marker at 8.01" in trace.toolTip()
    mark = next(m for m in workspace.marks if m.start > 9.0)
    qtbot.mouseMove(trace, QPoint(round(trace.places.x_of(sum(mark.span) / 2)), trace.height() // 2))
    assert "dB over the voice" in trace.toolTip() and "\n" not in trace.toolTip()
    bar = next(bar for one, bar in room.views.skyline.places.bars() if one.id == mark.id)
    qtbot.mouseMove(room.views.skyline, bar.center().toPoint() + QPoint(0, 2))
    assert "dB over the voice" in room.views.skyline.toolTip()


def test_the_view_glides_to_where_it_is_asked_for(esses, qtbot):
    room, workspace = esses, esses.workspace
    seen = []
    workspace.viewport.changed.connect(lambda: seen.append(workspace.viewport.span))
    press(room, Qt.Key.Key_Plus, qtbot=qtbot)
    press(room, Qt.Key.Key_Plus, qtbot=qtbot)
    target = workspace.viewport.target
    assert target[1] - target[0] == pytest.approx(6.0 / 1.6**2, abs=0.01), "two notches, however fast they come"
    began = time.monotonic()
    qtbot.waitUntil(lambda: workspace.viewport.span == target, timeout=1_000)
    assert time.monotonic() - began < 0.4
    sizes = [end - start for start, end in seen]
    assert len(sizes) >= 3 and sizes == sorted(sizes, reverse=True), "closer and closer, without a jump"


def test_two_fingers_move_along_and_pinch(esses, qtbot):
    workspace, trace = esses.workspace, esses.views.trace
    at = QPointF(trace.places.x_of(9.0), trace.height() / 2)
    glob = QPointF(trace.mapToGlobal(at.toPoint()))

    def fingers(x, y):
        event = QWheelEvent(at, glob, QPoint(x, y), QPoint(x, y), Qt.MouseButton.NoButton,
                            Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.ScrollUpdate, False)  # fmt: skip
        QApplication.sendEvent(trace, event)

    fingers(-60, 8)
    assert workspace.viewport.span[0] > 6.0 and workspace.viewport.span[1] - workspace.viewport.span[
        0
    ] == pytest.approx(6.0)
    workspace.viewport.show(6.0, 12.0)
    device = QPointingDevice.primaryPointingDevice()
    pinch = QNativeGestureEvent(Qt.NativeGestureType.ZoomNativeGesture, device, 2, at, at, glob, 0.25, QPointF())
    QApplication.sendEvent(trace, pinch)
    start, end = workspace.viewport.span
    assert end - start == pytest.approx(6.0 / 1.25) and trace.places.x_of(9.0) == pytest.approx(at.x(), abs=1)


def test_the_row_of_digits_works_in_every_layout(room, qtbot):
    """On a French keyboard the first key writes & without Shift."""
    for place, text, wanted in ((0, "&", 0), (3, "'", 3), (9, "à", 9)):
        event = QKeyEvent(QEvent.Type.KeyPress, 0, Qt.KeyboardModifier.NoModifier, 10 + place, 0, 0, text)
        QApplication.sendEvent(room, event)
        assert room.views.title.route.current == wanted


def test_the_legend_tells_the_signs_of_the_pass(esses, qtbot):
    room = esses
    assert not room.views.legend.isVisible(), "folded at first"
    qtbot.mouseClick(room.views.signs, Qt.MouseButton.LeftButton)
    assert room.views.legend.isVisible()
    words = [words for words, _ in room.views.legend.rows()]
    assert "an ess, over its ceiling" in words and "what the cleaning removes" in words
    room.views.legend.close()


def test_where_the_process_that_draws_is_killed_the_next_picture_starts_it_anew(esses, qtbot):
    room, workspace = esses, esses.workspace
    os.kill(process()._child.pid, signal.SIGKILL)
    workspace.viewport.show(7.0, 12.0)
    sharp(room, qtbot)
    assert room.views.trace.map.maker.made.picture.sung.any()
    mark = next(m for m in workspace.marks if 7.0 < m.start < 12.0)
    workspace.select_marks([mark.id])
    qtbot.waitUntil(
        lambda: room.views.lens.pictures.grab() and room.views.lens.pictures.close_up.settled, timeout=5_000
    )
