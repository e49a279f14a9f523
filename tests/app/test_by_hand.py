"""By hand: marks cut in two and joined, a curve typed, the singer's spectra seen, the session under another name."""

import numpy as np
import pytest
from PySide6.QtCore import Qt

from driving import answer_dialog, key, press
from isophon.app.sheets.ess_pictures import PICTURES
from isophon.core.session import file

CTRL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def level(workspace, start, end, plan=None):
    """The level that is heard from ``start`` to ``end`` s, dB."""
    rate = workspace.part.source.sample_rate
    plan = workspace.part.plan if plan is None else plan
    first, count = round(start * rate), round((end - start) * rate)
    return 10 * np.log10(np.mean(workspace.take.renderer.cleaned(plan, first, count) ** 2))


def test_a_breath_is_cut_in_two_each_half_changed_and_joined_again(room, qtbot):
    workspace = room.workspace
    press(room, key("Breaths"), qtbot=qtbot)
    press(room, Qt.Key.Key_Asterisk, qtbot=qtbot)
    assert "two marks or more" in room.views.message.text()
    press(room, Qt.Key.Key_Slash, qtbot=qtbot)
    assert "Select a mark" in room.views.message.text()
    breath = max(workspace.marks, key=lambda m: m.end - m.start)
    count, (start, end) = len(workspace.marks), breath.span
    workspace.select_marks([breath.id])
    room.hearing.seek(workspace.offset + 0.5 * (start + end))
    press(room, Qt.Key.Key_Slash, qtbot=qtbot)
    assert len(workspace.marks) == count + 1
    first, later = (m for m in workspace.marks if m.span[0] < end and m.span[1] > start)
    assert (first.span[0], later.span[1]) == (start, end) and first.span[1] == later.span[0]
    assert first.span[1] == pytest.approx(0.5 * (start + end), abs=0.02) and workspace.mark.id == later.id
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    plain, edge = workspace.part.plan_without(("breath",)), 0.08
    places = [(m.span[0] + edge, m.span[1] - edge) for m in (first, later)]
    change = [level(workspace, *place) - level(workspace, *place, plain) for place in places]
    assert change[0] < -3 and change[1] == pytest.approx(0, abs=0.2), "the later half is as it was sung"
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    workspace.select_marks([first.id, later.id])
    press(room, Qt.Key.Key_Asterisk, qtbot=qtbot)
    assert len(workspace.marks) == count and workspace.mark.span == (start, end)
    for _ in range(4):  # join, leave, leave, split
        press(room, Qt.Key.Key_Z, CTRL, qtbot)
    assert workspace.part.mark(breath.id).span == (start, end) and len(workspace.marks) == count


def test_a_curve_is_typed_as_numbers_and_what_is_no_number_is_left_out(room, qtbot):
    workspace = room.workspace
    press(room, key("Spots"), qtbot=qtbot)
    word = max(workspace.take.words, key=lambda w: w[1] - w[0])
    workspace.commands.draw_box(*word, 200.0, 8_000.0)
    field = room.sheet.extras.curve
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "300 0, 900 -12, loud, 99999 3, 4000 ")
    field.insert("−")  # as it stands there
    qtbot.keyClicks(field, "3")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert workspace.mark.hand.curve == ((300.0, 0.0), (900.0, -12.0), (4_000.0, -3.0))
    assert field.text() == "300 0.0, 900 −12.0, 4000 −3.0"
    assert "Left out of the curve: loud, 99999 3." in room.views.message.text()
    rate, (start, end) = workspace.part.source.sample_rate, workspace.mark.span
    powers = []
    for plan in (workspace.part.plan_without(("spot",)), workspace.part.plan):
        samples = workspace.take.renderer.cleaned(plan, round(start * rate), round((end - start) * rate))[0]
        power = np.square(np.abs(np.fft.rfft(samples * np.hanning(len(samples)))))
        hz = np.fft.rfftfreq(len(samples), 1 / rate)
        powers.append([power[(hz > low) & (hz < high)].sum() for low, high in ((280, 330), (850, 950))])
    gain = 10 * np.log10(np.array(powers[1]) / powers[0])
    assert gain[0] - gain[1] == pytest.approx(12.0, abs=2.0), "down to the samples"


def test_the_spectra_of_vowels_and_esses_follow_what_is_set(room, qtbot):
    press(room, key("Esses"), qtbot=qtbot)
    extras = room.sheet.extras
    extras.picture.setCurrentText(PICTURES[2])
    extras.picture.activated.emit(extras.picture.currentIndex())
    picture = extras._shown
    assert picture.isVisible() and picture.accessibleName() == "Picture: vowels and esses"
    before = picture.grab().toImage()
    room.workspace.settings.set_setting("ceiling_db", -18.0)
    deeper = picture.grab().toImage()
    room.workspace.settings.set_setting("air_db", 6.0)
    brighter = picture.grab().toImage()
    halves = [(x, x + picture.width() // 2 - 8) for x in (4, picture.width() // 2 + 4)]
    shown = [[image.copy(a, 0, b - a, picture.height()) for a, b in halves] for image in (before, deeper, brighter)]
    assert shown[0][0] == shown[1][0] and shown[0][1] != shown[1][1], "a lower ceiling is seen on the esses alone"
    assert shown[1][0] != shown[2][0], "air is seen on the vowels"


def test_saved_under_another_name_it_goes_on_there(room, qtbot, tmp_path):
    workspace, other = room.workspace, tmp_path / "other name"
    asked = answer_dialog(str(other))
    before = (tmp_path / "song.isophon").read_bytes()
    press(room, key("Esses"), qtbot=qtbot)
    workspace.settings.set_setting("ceiling_db", -5.0)
    press(room, Qt.Key.Key_S, CTRL | SHIFT, qtbot)
    named = other.with_name("other name.isophon")
    qtbot.waitUntil(named.exists, timeout=5_000)
    assert asked == ["song.isophon"] and (tmp_path / "song.isophon").read_bytes() == before
    assert file.load(named).part(workspace.part.id).ess.ceiling_db == -5.0
    room.window().activateWindow()  # as a window manager does once the dialog is closed
    qtbot.waitUntil(room.window().isActiveWindow)
    workspace.settings.set_setting("ceiling_db", -6.0)
    press(room, Qt.Key.Key_S, CTRL, qtbot)
    qtbot.waitUntil(lambda: file.load(named).part(workspace.part.id).ess.ceiling_db == -6.0, timeout=5_000)
    answer_dialog("")
    files = sorted(tmp_path.iterdir())
    press(room, Qt.Key.Key_S, CTRL | SHIFT, qtbot)
    qtbot.wait(50)
    assert sorted(tmp_path.iterdir()) == files, "no name, no file"
