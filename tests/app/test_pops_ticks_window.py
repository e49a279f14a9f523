"""Pops and Ticks in the window: found, drawn, repaired, heard."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt

from driving import drag, key, press


def test_pops_come_down_and_can_be_heard_on_small_loudspeakers(room, qtbot):
    workspace = room.workspace
    press(room, key("Pops"), qtbot=qtbot)
    qtbot.wait(100)
    assert len(workspace.marks) == 12 and "pops, their lows in dB" in room.views.about.accessibleName()
    tag = room.views.skyline.places.tags()["ceiling_db"]
    drag(qtbot, room.views.skyline, tag.center(), QPointF(tag.center().x(), room.views.skyline.places.y_of(-10.0)))
    assert workspace.part.pop.ceiling_db == pytest.approx(-10, abs=1)
    press(room, Qt.Key.Key_Right, qtbot=qtbot)
    mark = workspace.mark
    assert "up to" in room.views.lens.numbers.text() and not room.views.lens.blend.isVisible()
    first, last = (round(t * 48_000) for t in mark.span)
    sung = workspace.take.renderer.sung(first, last - first)[0]
    clean = workspace.take.renderer.cleaned(workspace.part.plan, first, last - first)[0]
    low = np.abs(np.fft.rfftfreq(last - first, 1 / 48_000) - 45) < 20
    spectra = [np.square(np.abs(np.fft.rfft(x)))[low].sum() for x in (sung, clean)]
    assert 10 * np.log10(spectra[1] / spectra[0]) < workspace.part.change(mark) + 4
    pictures = room.views.lens.pictures
    box = pictures.mark_box(mark, pictures.boxes()[0])
    drag(qtbot, pictures, QPointF(box.center().x(), box.top()), QPointF(box.center().x(), box.top() + 12))
    assert workspace.mark.hand.high_hz < mark.high_hz
    room.hearing.set_compare("removed")
    room.sheet.extras.lift.click()
    assert all(strip.lifted for strip in room.hearing.player.scene)
    room.hearing.set_compare("cleaned")
    assert not any(strip.lifted for strip in room.hearing.player.scene)
    room.grab()


def test_ticks_are_repaired_and_shown_as_samples(room, qtbot):
    workspace = room.workspace
    workspace.select_part("part-5")
    qtbot.waitUntil(lambda: workspace.part.found, timeout=90_000)
    press(room, key("Ticks"), qtbot=qtbot)
    ticks = [m for m in workspace.marks if not m.sound]
    assert 8 <= len(ticks) <= 12 and "repair 3 clipped places" in room.sheet.extras.mend.text()
    workspace.select_marks([ticks[0].id])
    assert " · repaired" in room.views.lens.numbers.text()
    rate = workspace.part.source.sample_rate
    first, last = (round(t * rate) for t in workspace.mark.span)
    sung = workspace.take.renderer.sung(first, last - first)[0]
    clean = workspace.take.renderer.cleaned(workspace.part.plan, first, last - first)[0]
    assert np.abs(clean).max() < 0.5 * np.abs(sung).max()
    room.grab()
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert workspace.part.change(workspace.part.mark(ticks[0].id)) == 0
    clipped = next(m for m in workspace.marks if m.sound == "clipped")
    workspace.select_marks([clipped.id])
    assert workspace.part.change(clipped) == 0 and "repaired on request" in room.views.lens.warning.text()
    room.sheet.extras.mend.click()
    assert workspace.part.change(workspace.mark) == -36
    workspace.undo()
    assert workspace.part.change(workspace.mark) == 0


def test_a_pop_and_a_tick_are_drawn(room, qtbot):
    workspace = room.workspace
    for station, span in (("Pops", (8.0, 8.1)), ("Ticks", (9.0, 9.003))):
        press(room, key(station), qtbot=qtbot)
        count = len(workspace.marks)
        workspace.select_time(span)
        press(room, Qt.Key.Key_N, qtbot=qtbot)
        assert len(workspace.marks) == count + 1 and workspace.mark.hand.drawn
        assert workspace.mark.span == pytest.approx(span, abs=1e-3)
