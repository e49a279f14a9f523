"""Bleed in the window: learned from the cue in the background, shown, heard, undone."""

import numpy as np
import pytest
from PySide6.QtCore import Qt

from driving import excerpt, key, opened, press
from isophon.core.session import file, layout


@pytest.fixture
def room(window, demo, tmp_path, qtbot):
    """Both harmonies, the ad-libs and both references, in the second chorus alone."""
    return opened(window, excerpt(demo, tmp_path, 42, 60, (2, 3, 4), (0, 1)), qtbot)


def test_bleed_is_learned_and_taken_out(room, qtbot, tmp_path):
    workspace = room.workspace
    workspace.select_part("part-4")
    press(room, key("Bleed"), qtbot=qtbot)
    extras = room.sheet.extras
    assert workspace.marks == () and extras.words.text() == "Not found yet." and not extras.on.isEnabled()
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=60_000)
    qtbot.mouseClick(extras.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: workspace.part.leak is not None, timeout=90_000)
    assert workspace.part.leak.key and "comes 1.9" in extras.words.text() and len(workspace.marks) > 35
    assert workspace.keeper.history.undo_name is None, "learning is no decision, so nothing that undo takes back"
    hit = workspace.marks[0]
    first, last = (round(t * 48_000) for t in hit.span)
    workspace.settings.set_of_kind("gap", "floor_db", 60.0)  # the gaps of a harmony are silent anyway
    workspace.settings.set_of_kind("breath", "fill", True)  # else what is beside a breath goes with it

    def heard() -> np.ndarray:
        return np.diff(workspace.take.renderer.cleaned(workspace.part.plan, first, last - first)[0])

    clean = heard()
    extras.on.click()
    assert np.mean(heard() ** 2) > 3 * np.mean(clean**2)
    extras.on.click()
    workspace.select_marks([hit.id])
    press(room, Qt.Key.Key_L, qtbot=qtbot)
    assert np.mean(heard() ** 2) > 3 * np.mean(clean**2) and workspace.part.change(workspace.part.mark(hit.id)) == 0
    press(room, Qt.Key.Key_Down, qtbot=qtbot)
    assert "for the whole part" in room.views.message.text()
    room.grab()
    workspace.analysis.look_again()
    qtbot.waitUntil(lambda: "Found again" in room.views.message.text(), timeout=60_000)
    assert len(workspace.marks) > 35 and workspace.part.mark(hit.id).hand.leave, (
        "looking again keeps the hits and the hand"
    )
    path = tmp_path / "kept.isophon"
    file.save(workspace.session, path)
    assert file.load(path).part("part-4").leak == workspace.part.leak


def test_without_a_cue_the_takes_own_click_is_learned(room, qtbot):
    """From a selected time; the passes that find again say so, and do it at one press."""
    workspace = room.workspace
    cues = [g.id for g in workspace.session.guides if g.kind == "cue"]
    workspace.edit("remove", lambda s: layout.remove(s, cues))
    workspace.select_part("part-3")
    press(room, key("Bleed"), qtbot=qtbot)
    extras = room.sheet.extras
    assert extras.source.text() == "its own regular click" and "Lay out" in extras.words.text()
    assert any("Ad-libs" in action.text() for action in extras.source.menu().actions())
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=60_000)
    assert not room.sheet.again.isVisible()
    workspace.select_time((1.0, 25.0))
    assert extras.learn.text() == "Find the leak from 24.0 s"
    qtbot.mouseClick(extras.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: workspace.part.leak is not None, timeout=120_000)
    leak = workspace.part.leak
    assert leak.own_click and abs(leak.beat_s - 0.44) < 1e-4 and leak.moments == ((1.0, 25.0),)
    assert "a click every 440.0" in extras.words.text() and "Find again" in room.views.message.text()
    assert workspace.part.bleed.learn_to == 25.0
    room.grab()
    press(room, key("Esses"), qtbot=qtbot)
    assert "find again" in room.views.title.route.toolTip() and room.sheet.again.isVisible()
    by_hand = workspace.marks[0]
    workspace.commands.set_changes({by_hand.id: -9.0})
    qtbot.mouseClick(room.sheet.again, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not workspace.analysis.leaks.stale(), timeout=60_000)
    assert not room.sheet.again.isVisible() and "find again" not in room.views.title.route.toolTip()
    assert workspace.part.change(workspace.part.mark(by_hand.id)) == -9.0
    press(room, key("Bleed"), qtbot=qtbot)
    room.sheet.extras.on.click()
    assert room.sheet.again.isVisible(), "with the bleed back in, they find again"


def test_too_short_a_time_is_told(room, qtbot):
    workspace = room.workspace
    press(room, key("Bleed"), qtbot=qtbot)
    workspace.select_time((3.0, 3.4))
    qtbot.mouseClick(room.sheet.extras.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "1 s or more are needed" in room.views.message.text(), timeout=60_000)
    assert workspace.part.leak is None


def test_the_music_and_another_singer_are_sources_of_a_leak(room, qtbot):
    """Several at once, ticked in the menu; the music stays what it is; a click is learned from alone."""
    workspace = room.workspace
    press(room, key("Bleed"), qtbot=qtbot)
    extras, leaks = room.sheet.extras, workspace.analysis.leaks
    actions = lambda: {a.text(): a for a in extras.source.menu().actions()}  # noqa: E731
    assert [name for name, a in actions().items() if a.isChecked()] == ["Cue"]
    actions()["Music, in the headphones"].trigger()
    extras.source.menu().aboutToShow.emit()
    assert [name for name, a in actions().items() if a.isChecked()] == ["Cue", "Music, in the headphones"]
    assert extras.source.text() == "Cue, Music, in the headphones"
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=60_000)
    qtbot.mouseClick(extras.learn, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: workspace.part.leak is not None, timeout=120_000)
    items = {g.id: g for g in workspace.session.guides}
    assert {items[feed.item].kind for feed in workspace.part.leak.feeds} == {"cue", "bed"}
    assert workspace.part.leak.key and leaks.chosen(workspace.part) == tuple(f.item for f in workspace.part.leak.feeds)
    for name, left in (("its own regular click", ["its own regular click"]),
                       ("Ad-libs, in the room", ["Ad-libs, in the room"])):  # fmt: skip
        actions()[name].trigger()
        extras.source.menu().aboutToShow.emit()
        assert [text for text, a in actions().items() if a.isChecked()] == left
