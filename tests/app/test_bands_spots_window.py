"""Bands and Spots in the window: dragged over frequency, drawn in the picture, heard alone, down to the samples."""

import itertools
from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QApplication

from conftest import write
from driving import drag, key, press
from isophon.app.views import frequencies
from isophon.core.passes.band.settings import centre_of
from isophon.core.playing.mix import mixed
from isophon.core.session import file
from isophon.core.takes.fine_spectrum import note_of
from voices import with_loud_ring

CTRL, NONE = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.NoModifier


@pytest.fixture
def bands(room, qtbot):
    press(room, key("Bands"), qtbot=qtbot)
    return room


def level_in(samples, rate, low, high):
    power = np.square(np.abs(np.fft.rfft(samples * np.hanning(len(samples)))))
    hz = np.fft.rfftfreq(len(samples), 1 / rate)
    return 10 * np.log10(power[(hz >= low) & (hz <= high)].sum() + 1e-20)


def heard(workspace, start, end, plan=None):
    rate = workspace.part.source.sample_rate
    plan = workspace.part.plan if plan is None else plan
    return workspace.take.renderer.cleaned(plan, round(start * rate), round((end - start) * rate))[0]


def test_the_demos_ring_stands_over_frequency_and_its_ceiling_is_heard(bands, qtbot):
    """The demo's lead rings at 2,650 Hz by 7 dB."""
    workspace, skyline = bands.workspace, bands.views.skyline
    mark = next(m for m in workspace.marks if workspace.part.change(m) < 0)
    hz, _ = centre_of(mark)
    assert hz == pytest.approx(2_650, rel=0.03) and mark.standout_db == pytest.approx(7, abs=2)
    bar = next(b for m, b in skyline.places.bars() if m.id == mark.id)
    assert abs(bar.center().x() - frequencies.x_of(skyline.places.plot(), hz)) < 2
    start, end = max(workspace.take.words, key=lambda w: w[1] - w[0])
    clean = level_in(heard(workspace, start, end), 48_000, 2_500, 2_800)
    sung = level_in(heard(workspace, start, end, ()), 48_000, 2_500, 2_800)
    assert sung - clean == pytest.approx(-workspace.part.change(mark), abs=1.0)
    tag = skyline.places.tags()["ceiling_db"].center()
    drag(qtbot, skyline, tag, tag + QPointF(0, skyline.places.y_of(0) - skyline.places.y_of(2.0)))
    assert workspace.part.band.ceiling_db == pytest.approx(0, abs=0.4)
    assert level_in(heard(workspace, start, end), 48_000, 2_500, 2_800) < clean - 0.8


def test_a_band_is_made_moved_widened_typed_and_taken_away(bands, qtbot):
    workspace, skyline = bands.workspace, bands.views.skyline
    count, plot = len(workspace.marks), skyline.places.plot()
    at = QPoint(round(frequencies.x_of(plot, 300)), round(plot.top() + 6))
    qtbot.mouseDClick(skyline, Qt.MouseButton.LeftButton, pos=at)
    mark = workspace.mark
    assert len(workspace.marks) == count + 1 and mark.hand.drawn and workspace.part.change(mark) == -3.0
    assert centre_of(mark)[0] == pytest.approx(300, rel=0.05)
    bar = next(b for m, b in skyline.places.bars() if m.id == mark.id)
    start = QPointF(bar.center().x(), bar.bottom() - 8)
    drag(qtbot, skyline, start, QPointF(start.x() + 60, start.y()))
    moved = centre_of(workspace.part.mark(mark.id))
    assert moved[0] > 350 and workspace.part.change(workspace.part.mark(mark.id)) == -3.0
    extras = bands.sheet.extras
    for name, text in (("change", "+4"), ("frequency", "500"), ("Q", "2")):
        field = extras.fields[name]
        field.setFocus()
        field.selectAll()
        qtbot.keyClicks(field, text)
        qtbot.keyClick(field, Qt.Key.Key_Return)
    mark = workspace.part.mark(mark.id)
    assert centre_of(mark) == pytest.approx((500, 2.0), rel=0.02) and workspace.part.change(mark) == 4.0
    start, end = max(workspace.take.words, key=lambda w: w[1] - w[0])
    lifted = level_in(heard(workspace, start, end), 48_000, 480, 520) - level_in(
        heard(workspace, start, end, workspace.part.plan_without(("band",))), 48_000, 480, 520
    )
    assert lifted == pytest.approx(4.0, abs=0.6)
    bands.setFocus()
    press(bands, Qt.Key.Key_Delete, qtbot=qtbot)
    assert len(workspace.marks) == count
    press(bands, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier, qtbot=qtbot)
    assert workspace.part.mark(mark.id) is not None


def test_a_band_is_heard_alone_while_a_key_is_held(bands, qtbot):
    workspace = bands.workspace
    workspace.select_marks([workspace.marks[0].id])
    qtbot.keyPress(bands, Qt.Key.Key_B)
    strip = bands.hearing.player.scene[0]
    assert strip.band is not None and strip.band[0] < 2_650 < strip.band[1]
    bands.hearing.player.play()
    qtbot.wait(700)
    bands.hearing.player.stop()
    qtbot.wait(80)
    sound = bands.hearing.player.device.played()[0]
    inside, outside = (level_in(sound, 48_000, *span) for span in ((2_300, 3_100), (200, 1_500)))
    assert inside > outside + 20
    qtbot.keyRelease(bands, Qt.Key.Key_B)
    assert bands.hearing.player.scene[0].band is None


def test_a_box_is_drawn_in_the_trace_heard_and_given_up(room, qtbot):
    workspace, trace = room.workspace, room.views.trace
    press(room, key("Spots"), qtbot=qtbot)
    word = max(workspace.take.words, key=lambda w: w[1] - w[0])
    workspace.viewport.show(word[0] - 1, word[1] + 1)
    row, before = trace.places.rows()[3], workspace.session
    start, stop = (QPoint(round(trace.places.x_of(t)), round(row.top() + share * row.height()))
                   for t, share in zip(word, (0.35, 0.65), strict=True))  # fmt: skip

    def draw():
        qtbot.mousePress(trace, Qt.MouseButton.LeftButton, CTRL, start)
        for at in (start + QPoint(9, 4), stop):
            told = QMouseEvent(QEvent.Type.MouseMove, QPointF(at), QPointF(trace.mapToGlobal(at)),
                               Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, CTRL)  # fmt: skip
            QApplication.sendEvent(trace, told)

    draw()
    press(room, Qt.Key.Key_Escape, qtbot=qtbot)
    qtbot.mouseRelease(trace, Qt.MouseButton.LeftButton, CTRL, stop)
    assert workspace.session == before, "nothing is kept of a box that was given up"
    draw()
    qtbot.mouseRelease(trace, Qt.MouseButton.LeftButton, CTRL, stop)
    mark = workspace.mark
    assert mark.kind == "spot" and workspace.part.change(mark) == -6.0 and 60 < mark.low_hz < mark.high_hz < 16_000
    middle = mark.low_hz * 1.1, mark.high_hz / 1.1
    plain = workspace.part.plan_without(("spot",))
    down = [level_in(heard(workspace, *mark.span, plan), 48_000, *middle) for plan in (plain, workspace.part.plan)]
    assert down[0] - down[1] == pytest.approx(6.0, abs=0.5)
    press(room, key("Esses"), qtbot=qtbot)
    room.grab()  # outlined in every pass
    press(room, Qt.Key.Key_Escape, qtbot=qtbot)
    assert workspace.session == before and workspace.pass_.name == "Spots"
    press(room, key("Esses"), qtbot=qtbot)
    axis, row = workspace.pass_.trace.axis, trace.places.rows()[3]
    drawn = [(at.y() - row.top()) / row.height() for at in (start, stop)]
    draw()
    qtbot.mouseRelease(trace, Qt.MouseButton.LeftButton, CTRL, stop)
    mark = workspace.mark
    assert workspace.pass_.name == "Spots" and mark.kind == "spot", "what is drawn over any pass stands in Spots"
    assert [axis.place(hz) for hz in (mark.high_hz, mark.low_hz)] == pytest.approx(drawn, abs=0.02)


def test_a_curve_over_frequency_is_drawn_inside_a_box(room, qtbot, tmp_path):
    """In the lens, over the cleaned picture: a point at the top of the box takes its upper half down further."""
    workspace, pictures = room.workspace, room.views.lens.pictures
    press(room, key("Spots"), qtbot=qtbot)
    word = max(workspace.take.words, key=lambda w: w[1] - w[0])
    workspace.commands.draw_box(*word, 300.0, 4_800.0)
    mark, box = workspace.mark, pictures.mark_box(workspace.mark, pictures.boxes()[1])
    at = lambda share, db: QPointF(box.left() + (db + 36) / 48 * box.width(), box.bottom() - share * box.height())  # noqa: E731
    for share, db in ((0.4, -6.0), (0.75, -6.0)):
        qtbot.mouseDClick(pictures, Qt.MouseButton.LeftButton, pos=at(share, db).toPoint())
    drag(qtbot, pictures, at(0.75, -6.0), at(0.75, -24.0))
    curve = workspace.part.mark(mark.id).hand.curve
    assert [hz for hz, _ in curve] == pytest.approx([300 * 16**0.4, 300 * 16**0.75], rel=0.05)
    assert [db for _, db in curve] == pytest.approx([0.0, -18.0], abs=1.5)
    assert room.sheet.extras.curve.text().count(",") == 1, "the same stands in the sheet in numbers"
    plain = workspace.part.plan_without(("spot",))
    for band, wanted in (((380, 800), -6.0), ((2_600, 4_000), -24.0)):
        levels = [level_in(heard(workspace, *word, plan), 48_000, *band) for plan in (plain, workspace.part.plan)]
        assert levels[1] - levels[0] == pytest.approx(wanted, abs=2.0)
    drag(qtbot, pictures, at(0.4, -6.0), at(0.4, 12.0))
    file.save(workspace.session, tmp_path / "song.isophon")
    assert file.load(tmp_path / "song.isophon").part(workspace.part.id).mark(mark.id).hand.curve[0][1] == 12.0
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot=qtbot)
    qtbot.waitUntil(lambda: pictures.close_up.settled, timeout=20_000)
    qtbot.mouseDClick(pictures, Qt.MouseButton.LeftButton, pos=at(0.75, curve[1][1] - 6).toPoint())
    assert len(workspace.part.mark(mark.id).hand.curve) == 1
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot=qtbot)
    assert workspace.part.mark(mark.id).hand.curve == curve


def test_an_outline_is_drawn_freely_and_only_what_is_inside_comes_down(room, qtbot):
    """A diamond: a box of the same size would take its corners too."""
    workspace, trace = room.workspace, room.views.trace
    press(room, key("Spots"), qtbot=qtbot)
    start, end = max(workspace.take.words, key=lambda w: w[1] - w[0])
    workspace.viewport.show(start - 0.2, end + 0.2)
    row, middle = trace.places.rows()[3], (start + end) / 2
    steps = [(start, 0.5), (middle, 0.2), (end, 0.5), (middle, 0.8), (start, 0.5)]
    corners = [QPoint(round(trace.places.x_of(t)), round(row.top() + share * row.height())) for t, share in steps]
    held = CTRL | Qt.KeyboardModifier.ShiftModifier
    qtbot.mousePress(trace, Qt.MouseButton.LeftButton, held, corners[0])
    for one, other in itertools.pairwise(corners):
        for share in (0.25, 0.5, 0.75, 1.0):
            at = one + (other - one) * share
            told = QMouseEvent(QEvent.Type.MouseMove, QPointF(at), QPointF(trace.mapToGlobal(at)),
                               Qt.MouseButton.NoButton, Qt.MouseButton.LeftButton, held)  # fmt: skip
            QApplication.sendEvent(trace, told)
    qtbot.mouseRelease(trace, Qt.MouseButton.LeftButton, held, corners[-1])
    mark = workspace.mark
    assert len(mark.hand.outline) >= 16 and mark.span == pytest.approx((start, end), abs=0.05)
    assert mark.low_hz < mark.high_hz and workspace.part.change(mark) == -6.0
    plain = workspace.part.plan_without(("spot",))
    hz = [f for t, f in mark.hand.outline if abs(t - middle) < 0.02]
    low, high = min(hz), max(hz)
    centre, length = np.sqrt(low * high), end - start
    inside = (middle - 0.15 * length, middle + 0.15 * length, centre / 1.2, centre * 1.2)
    corner = (start + 0.02 * length, start + 0.15 * length, high / 1.3, high)
    down = []
    for first, last, lowest, highest in (inside, corner):
        sung, cleaned = (level_in(heard(workspace, first, last, plan), 48_000, lowest, highest)
                         for plan in (plain, workspace.part.plan))  # fmt: skip
        down.append(sung - cleaned)
    assert down[0] == pytest.approx(6.0, abs=1.0) and down[1] < 1.0, down
    room.grab()
    press(room, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier, qtbot)
    assert workspace.mark is None or not workspace.mark.hand.outline


def test_a_word_is_ridden_alike_ones_are_taken_and_given_to_the_stack(room, qtbot):
    workspace = room.workspace
    press(room, key("Spots"), qtbot=qtbot)
    word = max(workspace.marks, key=lambda m: m.standout_db)
    workspace.select_marks([word.id])
    for _ in range(4):
        press(room, Qt.Key.Key_Down, qtbot=qtbot)
    assert workspace.part.change(workspace.mark) == -2.0
    room.sheet.extras.alike.moved.emit(0.1 * 100, ("alike", 1))
    assert (
        len(workspace.selected_marks) == 1 + round(0.1 * (len(workspace.marks) - 1))
        and workspace.selected_marks[0] == word.id
    )
    workspace.select_marks([word.id])
    room.sheet.extras.give.click()
    stack = [p for p in workspace.session.parts if p.role != "lead" and p.offset_s == workspace.part.offset_s]
    assert stack and all(any(m.hand.drawn and p.change(m) == -2.0 for m in p.of_kind("spot")) for p in stack)
    room.sheet.extras.on.click()
    workspace.settings.set_setting("ceiling_db", 1.0)
    loud = [m for m in workspace.marks if m.standout_db > workspace.part.spot.ceiling_db and not m.hand.any]
    assert len(loud) > 3 and all(workspace.part.change(m) < 0 for m in loud)


def test_a_ring_of_loud_words_stands_word_by_word(window, qtbot, tmp_path):
    """Over frequency one bar; once it is in hand one bar a word, which keys and pointer change as everywhere."""
    _, rung, rate, _, _ = with_loud_ring("de+f2", 2_500.0, 9.0, 11.0)
    window.open_paths([write(tmp_path / "take.wav", rung, rate)], anew=True)
    qtbot.waitUntil(lambda: window.work_page is not None and window.work_page.workspace.part.found, timeout=30_000)
    page, workspace = window.work_page, window.work_page.workspace
    press(page, key("Bands"), qtbot=qtbot)
    qtbot.waitUntil(lambda: len(page.views.skyline.places.bars()) == 1, timeout=5_000)
    ((mark, bar),) = page.views.skyline.places.bars()
    assert workspace.over_frequency and mark.is_by_level
    qtbot.mouseClick(page.views.skyline, Qt.MouseButton.LeftButton, pos=bar.center().toPoint())
    assert (
        not workspace.over_frequency
        and len(page.views.skyline.places.bars()) > 5
        and "each word" in page.views.about.text()
    )
    acting = [m for m in workspace.marks if workspace.part.acts(m)]
    assert 0 < len(acting) < len(workspace.marks)
    press(page, Qt.Key.Key_L, qtbot=qtbot)
    assert not workspace.part.acts(workspace.part.mark(mark.id)) and workspace.part.mark(mark.id).hand.leave
    left = next(m for m in workspace.marks if not workspace.part.acts(m) and m.id != mark.id)
    workspace.select_marks([left.id])
    press(page, Qt.Key.Key_Down, qtbot=qtbot)
    assert workspace.part.change(workspace.part.mark(left.id)) < 0
    page.sheet.extras.loud.click()
    assert [m.id for m in workspace.marks if workspace.part.acts(m)] == [left.id], "only what a hand set acts now"
    workspace.undo()
    page.views.skyline.grab()
    empty = QPoint(page.views.skyline.width() - 8, 12)
    qtbot.mouseClick(page.views.skyline, Qt.MouseButton.LeftButton, pos=empty)
    assert workspace.over_frequency and len(page.views.skyline.places.bars()) == 1


def test_bells_are_made_moved_and_widened_in_the_fine_spectrum(bands, qtbot):
    room, workspace = bands, bands.workspace
    picture = room.sheet.picture
    room.hearing.seek(14.8)
    room._follow()
    qtbot.waitUntil(lambda: picture._seen is not None and picture._seen.pitch_hz is not None, timeout=15_000)
    assert note_of(picture._seen.pitch_hz).startswith("C4")
    assert picture._seen.partials[0].hz == pytest.approx(262, abs=4)
    before = {m.id for m in workspace.part.of_kind("band")}
    middle = picture.height() // 2
    qtbot.mouseDClick(picture, Qt.MouseButton.LeftButton, pos=QPoint(round(picture.x_of(500.0)), middle))
    (made,) = [m for m in workspace.part.of_kind("band") if m.id not in before]
    assert centre_of(made)[0] == pytest.approx(500.0, rel=0.03) and workspace.part.change(made) == -3.0
    drag(qtbot, picture, QPointF(picture.x_of(centre_of(made)[0]), middle), QPointF(picture.x_of(700.0), middle))
    moved = workspace.part.mark(made.id)
    assert centre_of(moved)[0] == pytest.approx(700.0, rel=0.03)
    at, everywhere = QPointF(picture.x_of(700.0), middle), picture.mapToGlobal(QPointF(0, 0))
    wheel = QWheelEvent(at, everywhere, QPoint(), QPoint(0, 120),
                        Qt.MouseButton.NoButton, NONE, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(picture, wheel)
    assert centre_of(workspace.part.mark(made.id))[1] < centre_of(moved)[1]
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, pos=QPoint(round(picture.x_of(3_500.0)), middle))
    assert room.hearing.alone.band[0] < 3_500 < room.hearing.alone.band[1]
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, pos=QPoint(round(picture.x_of(3_500.0)), middle))
    assert room.hearing.alone.band is None
    small = picture.height()
    qtbot.mouseClick(picture.large, Qt.MouseButton.LeftButton)
    assert picture.size() == room.views.trace.size() and picture.height() > small
    press(room, Qt.Key.Key_Escape, qtbot=qtbot)
    assert room.sheet.isAncestorOf(picture) and not picture.large.isChecked()
    qtbot.waitUntil(lambda: picture.height() == small)


def test_all_but_a_band_is_heard_while_shift_and_the_button_are_held(bands, qtbot):
    room, workspace = bands, bands.workspace
    start, end = max(workspace.take.words, key=lambda w: w[1] - w[0])
    picture, shift = room.sheet.picture, Qt.KeyboardModifier.ShiftModifier
    at = QPoint(round(picture.x_of(1_000.0)), picture.height() // 2)

    def levels() -> list[float]:
        rate, scene = room.hearing.player.sample_rate, room.hearing.player.scene
        (strip,) = scene
        strips = (replace(strip, renderer=workspace.take.renderer),)
        sound = mixed(strips, rate, round(start * rate), round((end - start) * rate)).cleaned[0]
        return [level_in(sound, rate, low, high) for low, high in ((980, 1_020), (400, 600))]

    before = levels()
    qtbot.mousePress(picture, Qt.MouseButton.LeftButton, shift, at)
    without = levels()
    qtbot.mouseRelease(picture, Qt.MouseButton.LeftButton, shift, at)
    assert without[0] < before[0] - 40 and -0.1 < without[1] - before[1] < 6
    assert levels() == before
    picture.grab()
