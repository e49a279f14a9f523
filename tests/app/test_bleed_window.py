"""Bleed in the window: learned from the cue in the background, shown, heard, undone."""

import numpy as np
from PySide6.QtCore import Qt

from driving import key, press
from isophon.core.session import file, layout


def test_bleed_is_learned_and_taken_out(room, qtbot, tmp_path):
    desk = room.desk
    desk.take_part("part-4")
    press(room, key("Bleed"), qtbot=qtbot)
    extras = room.sheet.extras
    assert desk.marks == () and extras.words.text() == "Not learned yet." and not extras.on.isEnabled()
    qtbot.waitUntil(lambda: all(p.found for p in desk.session.parts), timeout=60_000)
    qtbot.mouseClick(extras.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: desk.part.leak is not None, timeout=90_000)
    assert desk.part.leak.key and "heard 1.9" in extras.words.text() and len(desk.marks) > 100
    assert desk.keeper.history.undo_name.startswith("bleed learned")
    hit = desk.marks[0]
    first, last = (round(t * 48_000) for t in hit.span)
    desk.set_of_kind("gap", "floor_db", 60.0)  # the gaps of a harmony are silent anyway

    def heard() -> np.ndarray:
        return np.diff(desk.take.renderer.cleaned(desk.part.plan, first, last - first)[0])

    clean = heard()
    extras.on.click()
    assert np.mean(heard() ** 2) > 3 * np.mean(clean**2)
    extras.on.click()
    desk.take_in_hand([hit.id])
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert np.mean(heard() ** 2) > 3 * np.mean(clean**2) and desk.part.change(desk.mark) == 0
    press(room, Qt.Key.Key_Down, qtbot=qtbot)
    assert "for the whole part" in room.message.text()
    room.grab()
    desk.look_again()
    qtbot.waitUntil(lambda: "Looked again" in room.message.text(), timeout=60_000)
    assert len(desk.marks) > 100 and desk.part.mark(hit.id).hand.leave, "looking again keeps the hits and the hand"
    path = tmp_path / "kept.isophon"
    file.save(desk.session, path)
    assert file.load(path).part("part-4").leak == desk.part.leak


def test_without_a_cue_it_says_what_to_do(room, qtbot):
    desk = room.desk
    cues = [g.id for g in desk.session.guides if g.kind == "cue"]
    desk.edit("remove", lambda s: layout.remove(s, cues))
    press(room, key("Bleed"), qtbot=qtbot)
    qtbot.mouseClick(room.sheet.extras.learn, Qt.MouseButton.LeftButton)
    assert (
        "No guide is the cue yet" in room.message.text() and "Add the headphone feed" in room.sheet.extras.words.text()
    )
