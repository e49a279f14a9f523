"""Floor and Breaths in the window: the same skyline, lens and keys, down to the samples."""

from dataclasses import replace

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt

from driving import drag, key, press
from isophon.core.passes.fades import Fade
from isophon.core.passes.hiss.settings import noise_in
from isophon.core.passes.rumble.settings import cut_in
from isophon.core.playing.mix import mixed

SHIFT = Qt.KeyboardModifier.ShiftModifier


def fades(part):
    return [t for t in part.plan if isinstance(t, Fade)]


def test_breaths_come_down_under_their_ceiling(room, qtbot):
    workspace = room.workspace
    press(room, key("Breaths"), qtbot=qtbot)
    assert workspace.pass_.name == "Breaths" and len(workspace.marks) == 14 and room.sheet.about.text() == ""
    assert {m.kind for m in workspace.marks} == {"breath"} and "breaths in dB" in room.views.about.accessibleName()
    press(room, Qt.Key.Key_Right, qtbot=qtbot)
    assert (
        workspace.mark.kind == "breath"
        and "Breath 1 of 14" in room.views.lens.head.text()
        and not room.views.lens.blend.isVisible()
    )
    tag = room.views.skyline.places.tags()["ceiling_db"]
    lower = QPointF(tag.center().x(), room.views.skyline.places.y_of(-21.0))
    drag(qtbot, room.views.skyline, tag.center(), lower)
    assert workspace.part.breath.ceiling_db == pytest.approx(-21.0, abs=0.8) and workspace.part.ess.ceiling_db == 0.0
    assert workspace.part.change(workspace.mark) > -6.0
    left = workspace.mark.id
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert workspace.part.change(workspace.part.mark(left)) == 0
    assert workspace.keeper.history.undo_name.startswith("leave")
    qtbot.mouseClick(room.sheet.reset, Qt.MouseButton.LeftButton)
    assert workspace.part.breath.ceiling_db == -32.0
    mark, samples = workspace.marks[3], workspace.take.renderer
    first, last = (round(t * 48_000) for t in mark.span)
    sung, clean = samples.sung(first, last - first)[0], samples.cleaned(workspace.part.plan, first, last - first)[0]
    assert np.mean(clean[3_000:-3_000] ** 2) < 0.5 * np.mean(sung[3_000:-3_000] ** 2)
    workspace.select_time((20.9, 21.3))
    press(room, Qt.Key.Key_N, qtbot=qtbot)
    assert workspace.mark.kind == "breath" and workspace.mark.hand.drawn and len(workspace.marks) == 15
    room.grab()


def test_the_floor_line_decides_which_gaps_are_filled(room, qtbot):
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    assert workspace.pass_.name == "Floor" and room.views.title.route.current == 1
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=120_000)
    qtbot.wait(100)  # laid out, and nothing is found any more that would move the skyline
    before = len(fades(workspace.part))
    tag = room.views.skyline.places.tags()["floor_db"]
    drag(qtbot, room.views.skyline, tag.center(), QPointF(tag.center().x(), room.views.skyline.places.y_of(1.0)))
    assert workspace.part.gap.floor_db == pytest.approx(1.0, abs=0.8) and len(fades(workspace.part)) > before
    filled = next(t for t in fades(workspace.part) if t.gain == 0.0 and t.beside == (1, 1) and t.first)
    assert filled.room and filled.edges[1] < filled.edges[0]
    mark = max(workspace.marks, key=lambda m: m.over_room_db)
    workspace.select_marks([mark.id])
    assert "dB over the noise floor · filled" in room.views.lens.numbers.text()
    workspace.settings.set_of_kind("gap", "how", "silence")
    assert "dB over the noise floor · gone" in room.views.lens.numbers.text()
    assert workspace.keeper.history.undo_name.startswith("gaps silenced · ")
    workspace.undo()
    before, after = workspace.take.noise_floor(workspace.part.plan)
    assert -66 < before < -60 and after <= before + 0.5
    qtbot.waitUntil(lambda: "noise floor −63 → −" in room.views.transport.still.text(), timeout=2_000)
    assert "of all −54 → −" in room.views.transport.still.text()
    double = workspace.session.part("part-2")
    assert workspace.pool.take(double.source).noise_floor(double.plan)[1] == -120
    room.sheet.extras.between.click()
    extras = room.sheet.extras
    extras.how.setCurrentIndex(extras.how.findData("silence"))
    extras.how.activated.emit(extras.how.currentIndex())
    gap = next(t for t in fades(workspace.part) if t.gain == 0.0 and t.first)
    middle = workspace.take.renderer.cleaned(
        workspace.part.plan, gap.first + gap.edges[0], gap.last - gap.first - sum(gap.edges)
    )
    assert not middle.any(), "silence is silent, after the low cut too"
    mark = max(workspace.marks, key=lambda m: m.end - m.start)
    workspace.select_marks([mark.id])
    pictures = room.views.lens.pictures
    box = pictures.mark_box(workspace.mark, pictures.boxes()[0])
    drag(qtbot, pictures, QPointF(box.left(), box.center().y()), QPointF(box.left() - 14, box.center().y()))
    assert workspace.mark.span[0] < mark.start and "reaches into the singing" in room.views.lens.warning.text()


def test_the_low_cut_is_proposed_and_warns_when_it_eats_the_voice(room, qtbot):
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    extras = room.sheet.extras.noise
    assert cut_in(workspace.part) == 150 and "lowest notes 220 Hz" in extras.loss.text()
    extras.cut.moved.emit(240.0, ("cut", 1))
    assert cut_in(workspace.part) == 240 and "eats the voice" in extras.loss.text()
    qtbot.mouseClick(extras.on, Qt.MouseButton.LeftButton)
    assert cut_in(workspace.part) is None
    workspace.undo()
    workspace.undo()
    assert cut_in(workspace.part) == 150 and extras.on.isChecked()


def test_hum_and_hiss_are_told_switched_and_heard(room, qtbot):
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=60_000)
    noise = room.sheet.extras.noise
    qtbot.waitUntil(lambda: "4 parts −5" in noise.hum_words.text(), timeout=5_000)  # shown in the next turn
    assert noise.hum_words.text().startswith("50.02 Hz, ")
    assert "dBFS above 5 kHz, taken from the pauses" in noise.hiss_words.text()
    still = next(m for m in workspace.marks if m.end - m.start > 0.9 and m.over_room_db < 8 and not m.breaths)
    first, frames = round((still.start + 0.2) * 48_000), 40_000

    def heard() -> np.ndarray:
        return workspace.take.renderer.cleaned(workspace.part.plan, first, frames)[0].astype(float)

    workspace.settings.set_of_kind("gap", "floor_db", 60.0)
    spectra = {}
    for name in ("both", "hum off", "hiss off"):
        if name == "hum off":
            qtbot.mouseClick(noise.hum, Qt.MouseButton.LeftButton)
        elif name == "hiss off":
            qtbot.mouseClick(noise.hiss, Qt.MouseButton.LeftButton)
        spectra[name] = np.abs(np.fft.rfft(heard() * np.hanning(frames))) ** 2
    hz = np.fft.rfftfreq(frames, 1 / 48_000)
    third, top = np.abs(hz - 150) < 3, (hz > 8_000) & (hz < 15_000)
    assert spectra["hum off"][third].sum() > 8 * spectra["both"][third].sum()
    assert spectra["hiss off"][top].sum() / spectra["hum off"][top].sum() == pytest.approx(4, rel=0.25)
    qtbot.mouseClick(room.sheet.reset, Qt.MouseButton.LeftButton)
    assert workspace.part.hum.on and workspace.part.hiss.on and workspace.part.gap.floor_db == 6.0


def test_hiss_is_learned_from_the_selected_time(room, qtbot):
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    qtbot.mouseClick(room.sheet.extras.noise.learn, Qt.MouseButton.LeftButton)
    assert "Drag over the ruler" in room.views.message.text() and not workspace.part.learned
    before = noise_in(workspace.part)
    shuffle = next(m for m in workspace.marks if m.over_room_db > 12)
    workspace.select_time((shuffle.start, shuffle.end))
    qtbot.mouseClick(room.sheet.extras.noise.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: noise_in(workspace.part) != before, timeout=20_000)
    assert "taken from 4" in room.sheet.extras.noise.hiss_words.text()
    workspace.select_time((1.0, 1.05))
    qtbot.mouseClick(room.sheet.extras.noise.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "too short to learn" in room.views.message.text(), timeout=20_000)
    workspace.select_time(None)
    qtbot.mouseClick(room.sheet.extras.noise.learn, Qt.MouseButton.LeftButton)
    assert noise_in(workspace.part) == before
    workspace.undo()
    assert noise_in(workspace.part) != before


def test_a_gaps_edge_is_dragged_in_the_trace(room, qtbot):
    workspace, trace = room.workspace, room.views.trace
    press(room, key("Floor"), qtbot=qtbot)
    gap = next(m for m in workspace.marks if workspace.part.change(m) < 0 and m.start > 0)
    workspace.viewport.show(gap.start - 1, gap.end + 1)
    workspace.select_marks([gap.id])
    y = trace.places.rows()[2].center().y()
    drag(qtbot, trace, QPointF(trace.places.x_of(gap.start), y), QPointF(trace.places.x_of(gap.start + 0.1), y))
    assert workspace.mark.span == (pytest.approx(gap.start + 0.1, abs=0.01), gap.end)
    assert round((workspace.mark.span[0] + 0.08) * 48_000) in [t.first for t in fades(workspace.part)]
    view = workspace.viewport.span
    drag(qtbot, trace, QPointF(trace.places.x_of(gap.start + 0.4), y), QPointF(trace.places.x_of(gap.start + 0.2), y))
    assert workspace.viewport.span != view, "elsewhere the view moves along"
    workspace.undo()
    assert workspace.mark.span == (gap.start, gap.end)
    room.grab()


def test_where_singing_is_moves_with_its_sensitivity_and_a_persons_word(room, qtbot):
    """Gaps are drawn anew soon after, a hand's edge stays, undo leads back; a selected time can be said to be sung."""
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=120_000)
    room.sheet.extras.between.click()

    def spans():
        return [m.span for m in workspace.marks]

    before, kept = spans(), workspace.marks[2]
    workspace.select_marks([kept.id])
    workspace.commands.set_edge("start", kept.start + 0.2, None)
    slider = room.sheet.sliders["sensitivity_db"]
    slider.moved.emit(25.0, "drag")
    assert workspace.part.gap.sensitivity_db == 25.0
    qtbot.waitUntil(lambda: spans() != before and workspace.part.measured.pauses.sensitivity_db == 25.0, timeout=1_000)
    assert workspace.part.mark(kept.id).span[0] == pytest.approx(kept.start + 0.2, abs=1e-3)
    workspace.undo()
    workspace.undo()
    qtbot.waitUntil(lambda: spans() == before, timeout=1_000)
    press(room, Qt.Key.Key_I, qtbot=qtbot)
    assert "Drag over the ruler" in room.views.message.text()
    middle = (kept.start + kept.end) / 2
    workspace.select_time((middle - 0.1, middle + 0.1))
    press(room, Qt.Key.Key_I, qtbot=qtbot)
    qtbot.waitUntil(lambda: len(spans()) == len(before) + 1, timeout=1_000)
    assert not any(start < middle < end for start, end in spans())
    workspace.viewport.show(kept.start, kept.end)
    room.grab()
    press(room, Qt.Key.Key_I, SHIFT, qtbot)
    qtbot.waitUntil(lambda: spans() == before, timeout=1_000)
    assert workspace.part.gap.unsung and not workspace.part.gap.sung


def test_the_pauses_are_heard_close(room, qtbot):
    """P: the pauses alone, lifted; the voice is silent; P again: all. The floor of a pause stands at the lens."""
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    gap = next(m for m in workspace.marks if m.start > 5)
    workspace.select_marks([gap.id])
    assert "floor here −6" in room.views.lens.numbers.text()
    press(room, Qt.Key.Key_P, qtbot=qtbot)
    lifted = room.hearing.alone.pauses_db
    assert 20 < lifted <= 40 and "pauses alone, lifted" in room.views.message.text().lower()
    assert f"+{lifted:.0f} dB (P)" in room.views.about.accessibleName()
    strip = room.hearing.player.scene[0]
    rate = workspace.part.source.sample_rate
    scene = (replace(strip, renderer=workspace.take.renderer),)
    word = workspace.take.words[3]
    assert not mixed(scene, rate, round(word[0] * rate), 4_000).cleaned.any()
    middle = round((gap.start + 0.3) * rate)
    plain = mixed((replace(scene[0], pauses=None),), rate, middle, 4_000).cleaned
    close = mixed(scene, rate, middle, 4_000).cleaned
    assert 20 * np.log10(np.std(close) / np.std(plain)) == pytest.approx(lifted, abs=1.0)
    press(room, Qt.Key.Key_P, qtbot=qtbot)
    assert room.hearing.player.scene[0].pauses is None and not room.views.message.isVisible()


def test_the_fades_of_one_gap_are_dragged_typed_and_an_ending_given_back(room, qtbot):
    workspace = room.workspace
    press(room, key("Floor"), qtbot=qtbot)
    room.sheet.extras.between.click()
    gap = next(m for m in workspace.marks if workspace.part.change(m) < 0 and m.start > 0)
    workspace.select_marks([gap.id])
    pictures = room.views.lens.pictures
    box = pictures.mark_box(workspace.mark, pictures.boxes()[1])
    handle = pictures.fades._places(box, workspace.mark)["comes"]
    drag(qtbot, pictures, handle, QPointF(box.left() + box.width() / 4, handle.y()))
    comes, goes = workspace.mark.hand.fades_ms
    assert comes == pytest.approx(250 * (gap.end - gap.start), rel=0.15) and goes == workspace.part.gap.opens_ms
    assert room.sheet.fades.sliders[0].value == comes
    assert max(t.edges[0] for t in fades(workspace.part)) == pytest.approx(48 * comes, abs=2)
    room.sheet.fades.sliders[1].moved.emit(60.0, "typed")
    assert workspace.mark.hand.fades_ms == (comes, 60.0)
    workspace.undo()
    workspace.undo()
    assert workspace.mark.hand.fades_ms is None
    workspace.commands.set_edge("start", gap.start - 0.25, None)
    press(room, Qt.Key.Key_G, qtbot=qtbot)
    assert workspace.mark.span[0] > gap.start - 0.05 and workspace.mark.hand.fades_ms[0] == 150.0
    press(room, Qt.Key.Key_G, qtbot=qtbot)
    assert "nothing of an ending is cut off" in room.views.message.text()
