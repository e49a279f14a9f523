"""Floor and Breaths in the window: the same skyline, lens and keys, down to the samples."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt

from driving import drag, press
from isophon.core.passes.gaps.treat import Fade


def fades(part):
    return [t for t in part.plan if isinstance(t, Fade)]


def test_breaths_come_down_under_their_ceiling(room, qtbot):
    desk = room.desk
    press(room, Qt.Key.Key_3, qtbot=qtbot)
    assert desk.pass_.name == "Breaths" and len(desk.marks) == 14 and room.sheet.about.text() == ""
    assert {m.kind for m in desk.marks} == {"breath"} and "breaths of Lead" in room.about.text()
    press(room, Qt.Key.Key_Right, qtbot=qtbot)
    assert desk.mark.kind == "breath" and "Breath 1 of 14" in room.lens.head.text() and not room.lens.blend.isVisible()
    tag = room.skyline._tags()["ceiling_db"]
    lower = QPointF(tag.center().x(), room.skyline.y_of(-21.0))
    drag(qtbot, room.skyline, tag.center(), lower)
    assert desk.part.breath.ceiling_db == pytest.approx(-21.0, abs=0.8) and desk.part.ess.ceiling_db == -3.0
    assert desk.part.change(desk.mark) > -6.0
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert desk.part.change(desk.mark) == 0 and desk.keeper.history.undo_name.startswith("leave")
    qtbot.mouseClick(room.sheet.reset, Qt.MouseButton.LeftButton)
    assert desk.part.breath.ceiling_db == -32.0
    mark, samples = desk.marks[3], desk.take.renderer
    first, last = (round(t * 48_000) for t in mark.span)
    sung, clean = samples.sung(first, last - first)[0], samples.cleaned(desk.part.plan, first, last - first)[0]
    assert np.mean(clean[3_000:-3_000] ** 2) < 0.5 * np.mean(sung[3_000:-3_000] ** 2)
    desk.select((20.9, 21.3))
    press(room, Qt.Key.Key_N, qtbot=qtbot)
    assert desk.mark.kind == "breath" and desk.mark.hand.drawn and len(desk.marks) == 15
    room.grab()


def test_the_floor_line_decides_which_gaps_are_filled(room, qtbot):
    desk = room.desk
    press(room, Qt.Key.Key_2, qtbot=qtbot)
    assert desk.pass_.name == "Floor" and room.title.route.current == 1
    before = len(fades(desk.part))
    tag = room.skyline._tags()["floor_db"]
    drag(qtbot, room.skyline, tag.center(), QPointF(tag.center().x(), room.skyline.y_of(1.0)))
    assert desk.part.gap.floor_db == pytest.approx(1.0, abs=0.8) and len(fades(desk.part)) > before
    filled = next(t for t in fades(desk.part) if t.gain == 0.0)
    assert filled.room == desk.part.room
    qtbot.waitUntil(lambda: all(p.found for p in desk.session.parts), timeout=60_000)
    before, after = desk.take.stillness(desk.part.plan)
    assert -66 < before < -60 and after <= before + 0.5
    assert "stillness of all −54 → −" in room.panel._still.text()
    double = desk.session.part("part-2")
    assert desk.shelf.take(double.source).stillness(double.plan)[1] == -120
    extras = room.sheet.extras
    extras.how.setCurrentIndex(extras.how.findData("silence"))
    extras.how.activated.emit(extras.how.currentIndex())
    gap = next(t for t in fades(desk.part) if t.gain == 0.0)
    middle = desk.take.renderer.cleaned(desk.part.plan, gap.first + gap.edge, gap.last - gap.first - 2 * gap.edge)
    assert not middle.any(), "silence is silent, after the low cut too"
    mark = max(desk.marks, key=lambda m: m.end - m.start)
    desk.take_in_hand([mark.id])
    pictures = room.lens.pictures
    box = pictures.mark_box(desk.mark, pictures.boxes()[0])
    drag(qtbot, pictures, QPointF(box.left(), box.center().y()), QPointF(box.left() - 14, box.center().y()))
    assert desk.mark.span[0] < mark.start and "reaches into the singing" in room.lens.warning.text()


def test_the_low_cut_is_proposed_and_warns_when_it_eats_the_voice(room, qtbot):
    desk = room.desk
    press(room, Qt.Key.Key_2, qtbot=qtbot)
    extras = room.sheet.extras
    assert desk.part.low_cut_hz == 150 and "lowest notes 220 Hz" in extras.loss.text()
    extras.cut.moved.emit(240.0, ("cut", 1))
    assert desk.part.low_cut_hz == 240 and "eats the voice" in extras.loss.text()
    qtbot.mouseClick(extras.on, Qt.MouseButton.LeftButton)
    assert desk.part.low_cut_hz is None
    desk.undo()
    desk.undo()
    assert desk.part.low_cut_hz == 150 and extras.on.isChecked()
