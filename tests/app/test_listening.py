"""Listening: output, volume, limiter, loudness that is matched, the chain, and what is said where nothing is heard."""

import numpy as np
import pytest
from msgspec.structs import replace
from PySide6.QtCore import QEvent, QPoint, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from driving import key, opened, press
from isophon.app.model import chain_shelf, listening
from isophon.app.pages.versions_page import VersionsPage
from isophon.core.playing.output import MONO
from isophon.core.session import edits, file
from isophon.core.session.chain import STARTS, Chain

Key, SHIFT, CTRL = Qt.Key, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


def heard(room, qtbot, seconds=0.9):
    """What was played lately, ``(2, n)``."""
    player = room.hearing.player
    player.device.clear()
    player.play()
    qtbot.waitUntil(lambda: player.device.played().any(), timeout=10_000)
    qtbot.wait(round(1000 * seconds))
    played = player.device.played()
    player.stop()
    qtbot.wait(80)
    return played


def level_db(samples):
    return 10 * np.log10(np.mean(np.square(samples)) + 1e-12)


def sounding(samples, rate):
    """The first half second that is no silence."""
    first = int(np.argmax(np.abs(samples[0]) > 1e-6))
    return samples[:, first : first + rate // 2]


def at_a_phrase(room):
    room.hearing.set_looping(False)
    room.hearing.seek(6.6)


def test_volume_mono_and_limiter_are_at_the_ears_alone_and_are_kept(room, qtbot):
    plan, panel = room.workspace.part.plan, room.views.transport.output_panel
    at_a_phrase(room)
    rate = room.hearing.player.device.rate
    before = sounding(heard(room, qtbot), rate)
    for _ in range(6):
        press(room, Key.Key_Minus, CTRL, qtbot)
    at_a_phrase(room)
    assert level_db(sounding(heard(room, qtbot), rate)) - level_db(before) == pytest.approx(-6.0, abs=0.5)
    assert "−6.0 dB" in room.views.transport.device.text() and room.workspace.part.plan is plan
    press(room, Key.Key_M, SHIFT, qtbot)
    assert room.hearing.listening.sides == MONO and panel.sides.currentText() == "mono"
    panel.sides.setCurrentIndex(3)
    panel.sides.activated.emit(3)
    at_a_phrase(room)
    played = heard(room, qtbot)
    assert not played[0, 12_000:].any() and played[1].any(), "the right side alone"
    panel.volume.moved.emit(12.0, None)
    room.workspace.edit("loud", lambda s: file_gain(s, room.workspace.part.id, 12.0))
    at_a_phrase(room)
    assert 0.8 < np.abs(heard(room, qtbot)).max() <= 10 ** (-1 / 20) + 0.02, "the limiter holds it at −1 dBTP"
    assert room.views.transport.meter.limited_db > 3
    kept = listening.recalled()
    assert kept.volume_db == 12.0 and kept.sides == 0, "a side that is off is not kept: it would pass for a fault"


def file_gain(session, part_id, gain_db):
    from isophon.core.session import layout

    return layout.set_listening(session, part_id, gain_db=gain_db)


def test_an_output_goes_away_and_comes_back_and_another_rate_is_converted(window, demo, tmp_path, monkeypatch, qtbot):
    devices = tmp_path / "devices"
    devices.write_text("Desk 44100\nHeadphones 48000\n")
    monkeypatch.setenv("ISOPHON_DEVICES", str(devices))
    path = tmp_path / "song.isophon"
    file.save(file.load(demo), path)
    room = opened(window, path, qtbot)
    device, panel = room.hearing.player.device, room.views.transport.output_panel
    device.list_outputs()
    qtbot.waitUntil(lambda: len(device.outputs) == 2, timeout=5_000)
    panel.show_outputs(device.outputs, device.name, device.rate, device.gone)
    names = [panel.device.itemText(i) for i in range(panel.device.count())]
    assert names == ["the system's own", "Desk", "Headphones"]
    panel.device.setCurrentIndex(1)
    panel.device.activated.emit(1)
    qtbot.waitUntil(lambda: (device.name, device.rate) == ("Desk", 44_100), timeout=5_000)
    at_a_phrase(room)
    desk = heard(room, qtbot)
    room.hearing.player.play()
    devices.write_text("Headphones 48000\n")
    qtbot.waitUntil(lambda: device.name == "Headphones", timeout=5_000)
    qtbot.waitUntil(lambda: "Desk is not there; it plays on Headphones now" in room.views.message.text(), timeout=2_000)
    assert room.hearing.player.playing
    room.hearing.player.stop()
    qtbot.wait(100)
    at_a_phrase(room)
    headphones = heard(room, qtbot)
    levels = [level_db(sounding(x, rate)) for x, rate in ((desk, 44_100), (headphones, 48_000))]
    assert levels[0] == pytest.approx(levels[1], abs=0.5) and levels[0] > -50
    devices.write_text("")
    qtbot.waitUntil(lambda: device.silent, timeout=5_000)
    devices.write_text("Desk 44100\n")
    qtbot.waitUntil(lambda: device.name == "Desk" and not device.gone, timeout=9_000)
    qtbot.waitUntil(lambda: "plays on Desk again" in room.views.message.text(), timeout=2_000)
    room.hearing.set_listening(replace(room.hearing.listening, device="Headphones"))
    qtbot.waitUntil(lambda: device.gone == "Headphones" and device.name == "Desk", timeout=5_000)
    devices.write_text("Desk 44100\nHeadphones 48000\n")
    qtbot.waitUntil(lambda: device.name == "Headphones" and not device.gone, timeout=9_000)


def test_loudness_is_matched_by_what_is_heard(room, qtbot):
    """A part that comes down by 9 dB in the loop alone: cleaned is heard as loud as as sung there."""
    workspace, hearing = room.workspace, room.hearing
    press(room, Key.Key_M, qtbot=qtbot)
    press(room, key("Spots"), qtbot=qtbot)
    workspace.select_time((6.6, 7.6))
    press(room, Key.Key_N, qtbot=qtbot)
    workspace.edit("deep", lambda s: edits.set_changes(s, workspace.part.id, {workspace.mark.id: -9.0}))
    workspace.select_time((6.6, 7.6))
    hearing.set_compare("as sung")
    sung = heard(room, qtbot, 2.4)
    hearing.set_compare("cleaned")
    cleaned = heard(room, qtbot, 3.0)
    rate = hearing.player.sample_rate
    assert hearing.gain_db > 7
    assert level_db(cleaned[:, -rate:]) == pytest.approx(level_db(sung[:, -rate:]), abs=1.0)
    assert room.views.transport.match_value.text().startswith("+")


def test_what_is_not_heard_is_said_with_the_key_that_changes_it(room, qtbot):
    workspace, hearing = room.workspace, room.hearing
    press(room, key("Esses"), qtbot=qtbot)
    at_a_phrase(room)
    hearing.player.play()
    qtbot.waitUntil(lambda: hearing.player.playing, timeout=2_000)

    def ceiling(by):
        room.views.message.hide()
        workspace.settings.set_setting("ceiling_db", workspace.part.ess.ceiling_db + by)
        return room.views.message.text() if room.views.message.isVisible() else ""

    assert ceiling(-4.0) == ""
    for act, undo, words in (
        (lambda: hearing.set_compare("as sung"), lambda: hearing.set_compare("cleaned"), "as sung plays (C)"),
        (lambda: press(room, Key.Key_X, qtbot=qtbot), lambda: [press(room, Key.Key_X, qtbot=qtbot) for _ in "ab"],
         "this pass is set aside (X)"),
        (lambda: (hearing.set_hear("with the stack"), press(room, Key.Key_U, qtbot=qtbot)),
         lambda: (press(room, Key.Key_U, qtbot=qtbot), hearing.set_hear("this part")), "is muted (U)"),
    ):  # fmt: skip
        act()
        assert words in ceiling(-1.0)
        undo()
        assert ceiling(-1.0) == ""
    ess = [m for m in workspace.part.of_kind("ess") if workspace.part.acts(m)]
    workspace.select_time((ess[0].start - 0.3, ess[0].end + 0.3))
    hearing.set_looping(True)
    room.views.message.hide()
    workspace.edit("far", lambda s: edits.set_changes(s, workspace.part.id, {ess[-1].id: -11.0}))
    assert "outside of the loop (O)" in room.views.message.text()


def test_the_chains_numbers_are_the_sessions_and_its_own_are_kept(room, tmp_path, qtbot):
    workspace, panel = room.workspace, room.views.transport.rough_panel
    press(room, Key.Key_R, qtbot=qtbot)
    panel.sliders["threshold_db"].moved.emit(-33.0, ("Threshold", 1))
    panel.sliders["threshold_db"].moved.emit(-35.0, ("Threshold", 1))
    assert workspace.session.chain.threshold_db == -35.0 == room.hearing.player.chain.threshold_db
    workspace.undo()
    assert workspace.session.chain == Chain() == panel.chain, "one gesture is one step"
    panel.start.setCurrentIndex(2)
    panel.start.activated.emit(2)
    assert workspace.session.chain == STARTS["up front and bright"]
    path = tmp_path / "with chain.isophon"
    file.save(workspace.session, path)
    assert file.load(path).chain == workspace.session.chain
    chain_shelf.keep("Mine", workspace.session.chain)
    assert chain_shelf.chains() == {"Mine": workspace.session.chain}
    (chain_shelf.shelf() / f"bad{chain_shelf.ENDING}").write_text('{"isophon_rough_chain": 1, "chain": {"ratio": 1e9}}')
    assert list(chain_shelf.chains()) == ["Mine"]
    chain_shelf.delete("Mine")
    assert chain_shelf.chains() == {}


def test_the_selection_plays_once_slowly_with_a_pre_roll_and_a_drag_is_heard(room, qtbot):
    workspace, hearing, player = room.workspace, room.hearing, room.hearing.player
    rate = player.sample_rate
    hearing.set_looping(False)
    workspace.select_time((6.6, 7.1))
    press(room, Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: player.playing, timeout=2_000)
    assert 6.5 * rate < player.position < 7.3 * rate, "Space plays from the selection"
    press(room, Key.Key_Space, qtbot=qtbot)
    press(room, Key.Key_Space, SHIFT, qtbot)
    qtbot.waitUntil(lambda: player.playing, timeout=2_000)
    qtbot.waitUntil(lambda: not player.playing, timeout=3_000)
    assert player.position == pytest.approx(7.1 * rate, abs=2), "once, and no further"
    room.views.transport.output_panel.pre_roll.activated.emit(1)
    press(room, Key.Key_Space, SHIFT, qtbot)
    qtbot.wait(200)
    assert player.position < 6.2 * rate, "from a second before"
    qtbot.waitUntil(lambda: not player.playing, timeout=3_000)
    press(room, Key.Key_Comma, qtbot=qtbot)
    press(room, Key.Key_Comma, qtbot=qtbot)
    assert player.speed == 0.5
    qtbot.waitUntil(lambda: "half speed" in room.views.transport.device.text(), timeout=2_000)
    press(room, Key.Key_Comma, qtbot=qtbot)
    assert player.speed == 1.0
    trace = room.views.trace
    ruler = trace.places.rows()[1].center().y()
    player.device.clear()
    alt = Qt.KeyboardModifier.AltModifier
    at = [QPoint(round(trace.places.x_of(seconds)), round(ruler)) for seconds in (6.9, 7.0, 7.2)]
    qtbot.mousePress(trace, Qt.MouseButton.LeftButton, alt, at[0])
    for place in at:
        left = Qt.MouseButton.LeftButton
        move = QMouseEvent(
            QEvent.Type.MouseMove, place.toPointF(), trace.mapToGlobal(place.toPointF()), left, left, alt
        )
        QApplication.sendEvent(trace, move)
        qtbot.wait(150)
    qtbot.mouseRelease(trace, Qt.MouseButton.LeftButton, alt, at[-1])
    qtbot.waitUntil(lambda: not player.playing, timeout=2_000)
    assert level_db(player.device.played()) > -50 and workspace.selected_time == (6.6, 7.1)


def test_versions_are_switched_while_it_plays_and_listed(room, qtbot):
    workspace = room.workspace
    press(room, key("Esses"), qtbot=qtbot)
    press(room, Key.Key_1, CTRL, qtbot)
    first = workspace.part.ess.ceiling_db
    press(room, Key.Key_2, CTRL, qtbot)
    workspace.settings.set_setting("ceiling_db", first - 6)
    at_a_phrase(room)
    room.hearing.player.play()
    plans = [workspace.part.plan]
    press(room, Key.Key_1, CTRL, qtbot)
    plans.append(workspace.part.plan)
    assert workspace.part.ess.ceiling_db == first and room.hearing.player.playing and plans[0] != plans[1]
    assert "version A" in room.views.title.state.text()
    page = VersionsPage(workspace, room)
    page.show()
    text = page.text.toPlainText()
    assert "Esses, ceiling" in text and "−6.0 dB, now 0.0 dB" in text and page.letters["A"].isChecked()
    qtbot.mouseClick(page.letters["B"], Qt.MouseButton.LeftButton)
    assert workspace.part.ess.ceiling_db == first - 6
    press(room, Key.Key_3, CTRL | Qt.KeyboardModifier.AltModifier, qtbot)
    assert "nothing is kept under this letter" in room.views.message.text()
    press(room, Key.Key_1, CTRL | Qt.KeyboardModifier.AltModifier, qtbot)
    assert workspace.part.ess.ceiling_db == first and workspace.session.version == "B"
    workspace.undo()
    qtbot.mouseClick(page.settle, Qt.MouseButton.LeftButton)
    assert not workspace.session.versions and workspace.part.ess.ceiling_db == first - 6
    page.close()
