"""The loop of review, by keys alone: how many a mark takes, where it leads, and that nothing is missed in silence."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtWidgets import QApplication, QComboBox

from driving import drag, key, opened, press
from isophon.app.model import audibility
from isophon.app.model.card_shelf import OWN
from isophon.app.model.worst_first import where_heard
from isophon.app.pages.cards_page import CardsPage
from isophon.app.pages.keys_page import KeysPage
from isophon.app.pages.marks_page import MarksPage
from isophon.app.pages.route import HAND_OVER, STATIONS
from isophon.app.pages.treatment_menu import treatment_menu
from isophon.app.sheets import PASSES
from isophon.core.errors import InputError
from isophon.core.handover.proof import page, proof_values
from isophon.core.passes import BY_NAME
from isophon.core.session import file, layout
from isophon.core.session.edits import agree
from isophon.core.session.settings import role_default
from isophon.core.session.treating import same_place


def page_of(proof):
    """The proof's page of one part."""
    levels = {"loudness_lufs": -20.0, "true_peak_dbtp": -1.0, "floor_dbfs": -60.0}
    return page([{"before": levels, "after": levels, "kinds": {}, "file": "a", "proof": proof}], "song")


Key, Shift, Ctrl = Qt.Key, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def ready(room, qtbot):
    """The work page once all parts are searched."""
    qtbot.waitUntil(lambda: all(p.found for p in room.workspace.session.parts), timeout=60_000)
    return room


def left(workspace):
    return sum(len(p.undecided(w.kind)) for p in workspace.session.parts for w in PASSES)


def test_the_demo_is_reviewed_with_little_more_than_a_key_a_mark(ready, qtbot):
    """Half of the marks agreed to, a quarter compared once (in turn, loop by loop), the rest changed or left."""
    workspace, pressed, told = ready.workspace, 0, []
    workspace.notice.connect(told.append)
    count = left(workspace)
    assert count > 50
    visited = []
    press(ready, Key.Key_2, qtbot=qtbot)
    press(ready, Key.Key_C, modifiers=Shift, qtbot=qtbot)
    press(ready, Key.Key_Return, qtbot=qtbot)  # to the first
    pressed = 3
    while ready.views.title.route.current != HAND_OVER:
        mark = workspace.mark
        visited.append((workspace.pass_.name, workspace.part.id, mark.id))
        keys = [Key.Key_L] if len(visited) % 8 == 3 else [Key.Key_Return]
        if len(visited) % 8 == 7 and not workspace.pass_.hand.by_hand:
            keys = [Key.Key_Down, Key.Key_Return]
        for one in keys:
            press(ready, one, qtbot=qtbot)
        pressed += len(keys)
        assert len(visited) <= count, "a mark came twice"
    assert len(set(visited)) == len(visited) == count and left(workspace) == 0
    assert pressed / count <= 1.2, pressed / count
    passes = [name for i, (name, _, _) in enumerate(visited) if i == 0 or visited[i - 1][0] != name]
    assert passes == [w.name for w in PASSES if w.name in passes], "the passes came in their order, each once"
    assert any("On to" in words for words in told) and "handed over" in told[-1]


def test_review_goes_on_to_the_next_pass_in_the_same_part_in_every_order(ready, qtbot):
    """Esses are decided in all parts; the selected part is the first with anything left, bands by level too."""
    workspace, session = ready.workspace, ready.workspace.session
    for part in session.parts:
        session = agree(session, part.id, [m.id for m in part.undecided("ess")])
    workspace.edit("esses agreed", lambda _: session)
    esses, after = next((w, i + 1) for i, w in enumerate(PASSES) if w.kind == "ess")
    onward = next(w for w in (*PASSES[after:], *PASSES[: after - 1]) if any(p.undecided(w.kind) for p in session.parts))
    part = next(p for p in session.parts if p.undecided(onward.kind))
    for _ in range(3):
        press(ready, key("Esses"), qtbot=qtbot)
        workspace.select_part(part.id)
        assert workspace.pass_ is esses
        press(ready, Key.Key_Return, qtbot=qtbot)
        assert workspace.pass_ is onward and workspace.part.id == part.id
        assert workspace.mark.id in {m.id for m in workspace.part.undecided(onward.kind)}
        press(ready, Key.Key_T, qtbot=qtbot)


def test_the_loop_is_heard_as_sung_and_cleaned_in_turn(ready, qtbot):
    press(ready, key("Esses"), qtbot=qtbot)
    press(ready, Key.Key_C, modifiers=Shift, qtbot=qtbot)
    press(ready, Key.Key_Return, qtbot=qtbot)
    heard = []
    ready.hearing.changed.connect(lambda: heard.append(ready.hearing.compare))
    qtbot.waitUntil(lambda: {"as sung", "cleaned"} <= set(heard), timeout=10_000)
    assert ready.hearing.player.playing


def test_what_was_decided_and_heard_outlives_closing(window, ready, qtbot, tmp_path):
    workspace = ready.workspace
    press(ready, key("Esses"), qtbot=qtbot)
    press(ready, Key.Key_Return, qtbot=qtbot)
    first = workspace.mark
    assert ready.hearing.player.playing and workspace.part.role == "lead"
    qtbot.waitUntil(lambda: any(name.endswith(first.id) for name in workspace.session.heard), timeout=10_000)
    undecided = len(workspace.part.undecided("ess"))
    press(ready, Key.Key_Return, qtbot=qtbot)
    press(ready, Key.Key_L, qtbot=qtbot)
    assert len(workspace.part.undecided("ess")) == undecided - 2
    assert workspace.part.mark(first.id).hand.agreed and not workspace.part.mark(first.id).hand.any
    press(ready, Key.Key_Return, modifiers=Shift, qtbot=qtbot)
    assert workspace.mark.hand.leave
    press(ready, Key.Key_S, modifiers=Ctrl, qtbot=qtbot)
    path, heard = workspace.keeper.saved_as, workspace.session.heard
    again = opened(window, path, qtbot).workspace
    assert len(again.part.undecided("ess")) == undecided - 2 and set(heard) <= set(again.session.heard)
    assert first.id in {name.split("/")[1] for name in file.load(path).heard}


def test_listening_alone_is_kept_and_asks_for_no_saving(window, ready, qtbot):
    workspace = ready.workspace
    press(ready, Key.Key_S, modifiers=Ctrl, qtbot=qtbot)
    press(ready, key("Esses"), qtbot=qtbot)
    press(ready, Key.Key_Right, qtbot=qtbot)
    press(ready, Key.Key_Space, qtbot=qtbot)
    qtbot.waitUntil(lambda: bool(workspace.session.heard), timeout=10_000)
    press(ready, Key.Key_Space, qtbot=qtbot)
    assert not workspace.keeper.unsaved
    heard, path = workspace.session.heard, workspace.keeper.saved_as
    again = opened(window, path, qtbot).workspace
    assert set(heard) <= set(again.session.heard) and not again.keeper.unsaved


def test_undo_and_redo_say_what_they_did_and_go_there(ready, qtbot):
    workspace, told = ready.workspace, []
    workspace.notice.connect(told.append)
    press(ready, key("Esses"), qtbot=qtbot)
    press(ready, Key.Key_Return, qtbot=qtbot)
    part, mark = workspace.part.id, workspace.mark.id
    press(ready, Key.Key_Down, qtbot=qtbot)
    press(ready, key("Breaths"), qtbot=qtbot)
    press(ready, Key.Key_Down, modifiers=Ctrl, qtbot=qtbot)
    assert workspace.part.id != part
    for keys in ((Key.Key_Z, Ctrl), (Key.Key_Z, Ctrl | Shift)):
        press(ready, keys[0], modifiers=keys[1], qtbot=qtbot)
        assert (workspace.pass_.name, workspace.part.id, workspace.selected_marks) == ("Esses", part, (mark,))
        assert "change by hand" in told[-1]
    assert told[-2].startswith("Undone") and told[-1].startswith("Redone")


def test_the_same_is_done_in_the_doubles_at_the_same_place(ready, qtbot):
    workspace = ready.workspace
    double = next(p for p in workspace.session.parts if p.role == "double")
    there = {round(m.start, 1): m for m in double.of_kind("ess")}
    mark = next(m for m in workspace.part.of_kind("ess") if round(m.start, 1) in there)
    press(ready, key("Esses"), qtbot=qtbot)
    workspace.select_marks([mark.id])
    press(ready, Key.Key_Return, modifiers=Ctrl, qtbot=qtbot)
    assert workspace.session.part(double.id) == double, "nothing is decided yet"
    for _ in range(3):
        press(ready, Key.Key_Down, qtbot=qtbot)
    change = workspace.part.change(workspace.mark)
    press(ready, Key.Key_Return, modifiers=Ctrl, qtbot=qtbot)
    met = [m for m in workspace.session.part(double.id).of_kind("ess") if m.hand.any]
    assert met and all(m.hand.change_db == pytest.approx(change) for m in met)
    assert all(abs(m.span[0] - mark.span[0]) < 0.4 for m in met)
    workspace.undo()
    assert workspace.session.part(double.id) == double


def test_several_tops_and_several_ceilings_move_by_as_much(ready, qtbot):
    workspace, skyline = ready.workspace, ready.views.skyline
    press(ready, key("Esses"), qtbot=qtbot)
    marks = [m for m in workspace.marks if workspace.part.change(m) < -1][:3]
    workspace.select_marks([m.id for m in marks])
    before = [workspace.part.change(m) for m in marks]
    bar = next(b for m, b in skyline.places.bars() if m.id == marks[0].id)
    top = skyline.places.y_of(workspace.pass_.skyline.height(marks[0]) + before[0])
    start = QPoint(round(bar.center().x()), round(top))
    drag(qtbot, skyline, start, start + QPoint(0, 12))
    after = [workspace.part.change(workspace.part.mark(m.id)) for m in marks]
    moved = [b - a for a, b in zip(before, after, strict=True)]
    assert moved[0] < -0.5 and moved == pytest.approx([moved[0]] * 3, abs=0.02)
    ids = [p.id for p in workspace.session.parts[:2]]
    workspace.settings.set_setting("ceiling_db", -5.0)
    workspace.select_parts(ids)
    ceilings = [p.ess.ceiling_db for p in workspace.session.parts[:2]]
    y = skyline.places.tags()["ceiling_db"].center()
    grip = QPoint(round(y.x()), round(y.y()) + 5)  # not in its middle: it must not jump
    drag(qtbot, skyline, grip, grip + QPoint(0, 1))
    one = [a.ess.ceiling_db - b for a, b in zip(workspace.session.parts[:2], ceilings, strict=True)]
    assert -1.5 < one[0] < 0 and one[0] == pytest.approx(one[1], abs=0.02)


def test_values_are_typed_dragged_finely_and_brought_back_in_one_step(ready, qtbot):
    press(ready, key("Esses"), qtbot=qtbot)
    workspace, slider = ready.workspace, ready.sheet.sliders["ceiling_db"]
    steps, default = len(workspace.keeper.history.steps), slider.default
    slider.setFocus()
    qtbot.keyClick(slider, Key.Key_Return)
    qtbot.keyClicks(slider._typed, "-7.25")
    qtbot.keyClick(slider._typed, Key.Key_Return)
    assert workspace.part.ess.ceiling_db == -7.25 and len(workspace.keeper.history.steps) == steps + 1
    middle = QPoint(round(slider._x_of(slider.value)) + 4, slider.height() // 2)
    qtbot.mousePress(slider, Qt.MouseButton.LeftButton, pos=middle)
    qtbot.mouseRelease(slider, Qt.MouseButton.LeftButton, pos=middle)
    assert workspace.part.ess.ceiling_db == -7.25, "a grip jumped to the pointer"
    qtbot.mouseDClick(slider, Qt.MouseButton.LeftButton, pos=middle)
    assert workspace.part.ess.ceiling_db == default and len(workspace.keeper.history.steps) == steps + 2


def test_a_pass_is_switched_off_for_listening_and_never_for_the_stems(ready, qtbot):
    workspace = ready.workspace
    press(ready, key("Esses"), qtbot=qtbot)
    press(ready, Key.Key_X, qtbot=qtbot)
    strip = next(s for s in ready.hearing.player.scene if s.compared)
    kinds = {type(t).__name__ for t in strip.plan}
    assert "EssCut" not in kinds and kinds and "EssCut" in {type(t).__name__ for t in workspace.part.plan}
    qtbot.mouseClick(ready.views.title.route, Qt.MouseButton.LeftButton,
                     pos=ready.views.title.route.ear(PASSES.index(workspace.pass_) + 1).center().toPoint())  # fmt: skip
    strip = next(s for s in ready.hearing.player.scene if s.compared)
    assert {type(t).__name__ for t in strip.plan} == {"EssCut"}
    press(ready, key("Hand over"), qtbot=qtbot)
    page = ready.views.hand_over
    qtbot.waitUntil(page.form.aside.isVisible)
    assert page.form.target().without == () and "Esses" in page.form.aside.text()
    page.form.aside.setChecked(True)
    assert set(page.form.target().without) == {name for w in PASSES for name in w.kinds} - {"ess"}


def test_keys_stay_with_what_has_the_focus(ready, qtbot):
    workspace = ready.workspace
    press(ready, key("Floor"), qtbot=qtbot)
    choice = next(c for c in ready.sheet.findChildren(QComboBox) if c.isVisible())
    choice.setFocus()
    before = choice.currentText()
    for letter in (Key.Key_S, Key.Key_L, Key.Key_M):
        qtbot.keyClick(choice, letter)
    assert choice.currentText() == before
    press(ready, key("Esses"), qtbot=qtbot)
    press(ready, Key.Key_Return, qtbot=qtbot)
    mark = workspace.mark.id
    ready.views.lens.leave.setFocus()
    qtbot.keyClick(ready.views.lens.leave, Key.Key_Return)
    assert workspace.part.mark(mark).hand.leave, "Return presses the button that has the focus"
    ready.views.transport.loop.setFocus()
    looping = ready.hearing.looping
    qtbot.keyClick(ready.views.transport.loop, Key.Key_Space)
    assert ready.hearing.looping != looping
    session = workspace.session
    press(ready, key("Hand over"), qtbot=qtbot)
    for one in (Key.Key_L, Key.Key_Down, Key.Key_Return, Key.Key_D, Key.Key_Backspace):
        qtbot.keyClick(ready, one)
    assert workspace.session == session, "keys of the marks acted where no mark is seen"
    press(ready, key("Esses"), qtbot=qtbot)
    workspace.settings.set_setting("ceiling_db", -9.0)
    ready.sheet.reset.setFocus()
    qtbot.keyClick(ready.sheet.reset, Key.Key_Space)
    assert workspace.part.ess == role_default("ess", "lead")
    assert QApplication.focusWidget() is ready


def test_it_fits_a_small_screen(window, ready, qtbot):
    for station in range(1, HAND_OVER):
        ready.open_station(station)
        window.resize(1024, 640)
        qtbot.wait(20)
        assert (window.width(), window.height()) == (1024, 640), PASSES[station - 1].name
    ready.open_station(STATIONS.index("Esses"))
    page = KeysPage(ready)
    assert page.height() <= page.screen().availableGeometry().height()
    reached, widget = set(), ready.views.title.route
    while (widget := widget.nextInFocusChain()) is not ready.views.title.route:
        if widget.isVisibleTo(ready) and widget.focusPolicy() & Qt.FocusPolicy.TabFocus:
            reached.add(widget.accessibleName() or getattr(widget, "text", lambda: "")())
    assert {"Trace", "Skyline", "Play or stop", "Loop", "Accept"} <= reached and "" not in reached


def test_riskiest_first_is_walked_and_counted_at_the_station(room, qtbot):
    workspace = room.workspace
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts), timeout=120_000)
    workspace.select_part("part-3")
    workspace.settings.set_setting("ceiling_db", -20.0)
    deep = workspace.part.changed("ess")[2][0].id
    workspace.commands.set_changes({deep: -25.0})
    for _ in range(2):
        press(room, Qt.Key.Key_T, qtbot=qtbot)
    assert workspace.order == "riskiest" and room.views.orders.buttons["riskiest"].isChecked()
    risks, walked = workspace.risks_of(workspace.part, workspace.pass_), []
    for _ in range(4):
        press(room, Qt.Key.Key_Right, qtbot=qtbot)
        walked.append(risks[workspace.mark.id])
        assert ("risky: " in room.views.lens.numbers.text()) == (walked[-1] >= BY_NAME["ess"].risk.risky_from)
    assert walked == sorted(risks.values(), reverse=True)[:4] and risks[deep] == walked[0] > walked[-1]
    station = STATIONS.index("Esses")
    wanted = sum(workspace.risks_of(p, workspace.pass_).get(m.id, 0) >= BY_NAME["ess"].risk.risky_from
                 for p in workspace.session.parts for m in p.undecided("ess"))  # fmt: skip
    qtbot.waitUntil(lambda: room.views.title.route._risky.get(station) == wanted, timeout=5_000)
    assert wanted and f"{wanted} risky" in room.views.title.route.toolTip()


def test_what_cannot_be_heard_under_the_music_is_accepted_in_one_step(room, qtbot):
    """The rest is walked by how audible and doubtful it is; noise floor and pops are never judged."""
    workspace, mix = room.workspace, room.workspace.audibility
    qtbot.waitUntil(lambda: all(p.found for p in workspace.session.parts) and mix.complete, timeout=120_000)
    which, station = workspace.pass_, STATIONS.index("Esses")
    alone = mix.of(workspace.part, which)
    for _ in range(3):
        press(room, Key.Key_T, qtbot=qtbot)
    assert workspace.order == "audible" and room.views.orders.buttons["audible"].isChecked()
    press(room, Key.Key_Right, qtbot=qtbot)
    worth = mix.worth(workspace.part, which)
    assert worth[workspace.mark.id] == max(worth.values())
    assert f"audible by +{alone[workspace.mark.id]:.1f} dB" in room.views.lens.numbers.text()
    music = next(guide for guide in workspace.session.guides if guide.kind == "bed")
    workspace.edit("loud music", lambda s: layout.set_listening(s, music.id, gain_db=12.0))
    under = mix.of(workspace.part, which)
    assert all(under[name] <= alone[name] for name in alone) and min(under.values()) < 0 < max(under.values())
    wanted = {part.id: [name for name, over in mix.of(part, which).items() if over <= 0]
              for part in workspace.session.parts}  # fmt: skip
    count = sum(map(len, wanted.values()))
    qtbot.waitUntil(lambda: f"{count} cannot be heard in the mix" in room.views.title.route.toolTip(), timeout=10_000)
    assert f"{count} cannot be heard in the mix" in room.views.about.text()
    steps = workspace.keeper.history.at
    press(room, Key.Key_W, Shift, qtbot)
    agreed = {part.id: [m.id for m in part.marks if m.hand.agreed] for part in workspace.session.parts}
    assert {name: sorted(ids) for name, ids in agreed.items()} == {name: sorted(ids) for name, ids in wanted.items()}
    assert workspace.keeper.history.at == steps + 1 and f"{count} esses" in room.views.message.text()
    shown = page_of(proof_values(workspace.part, {}))
    assert "Accepted unheard" in shown and f"{len(agreed['part-1'])} ess" in shown.partition("Accepted unheard")[2]
    qtbot.waitUntil(lambda: "cannot be heard" not in room.views.title.route.worth_hearing(station), timeout=10_000)
    press(room, key("Pops"), qtbot=qtbot)
    press(room, Key.Key_W, Shift, qtbot)
    assert "not judged" in room.views.message.text() and workspace.keeper.history.at == steps + 1


@pytest.fixture
def broken_music(monkeypatch):
    def fail(path, progress):
        raise InputError("Music.wav: it cannot be read")

    monkeypatch.setattr(audibility, "_surveyed", fail)


def test_music_that_cannot_be_read_holds_up_nothing(broken_music, room, qtbot):
    workspace, said = room.workspace, []
    workspace.troubled.connect(said.append)
    qtbot.waitUntil(lambda: workspace.audibility.complete, timeout=120_000)
    assert any("without this music" in words for words in said)
    press(room, Key.Key_W, qtbot=qtbot)
    assert room.review.worst_first.on


def test_everything_is_reviewed_as_one_list_worst_first(room, qtbot):
    """Over parts and passes, each heard where it matters; what cannot be heard is left."""
    workspace, review = room.workspace, room.review
    qtbot.waitUntil(
        lambda: all(p.found for p in workspace.session.parts) and workspace.audibility.complete, timeout=120_000
    )
    every = {(p.part.id, p.mark.id): p.worth for p in review.worst_first.places()}
    listened_with = room.hearing.hear
    press(room, Key.Key_W, qtbot=qtbot)
    walked, passes = [], set()
    for key_ in [Key.Key_Return, Key.Key_L] * 6:
        walked.append(every[workspace.part.id, workspace.mark.id])
        passes.add(workspace.pass_.kind)
        assert room.hearing.loop_span() and room.hearing.hear == where_heard(workspace.session, workspace.pass_)
        press(room, key_, qtbot=qtbot)
    assert walked == sorted(every.values(), reverse=True)[:12] and len(passes) > 1
    assert f"{len(every) - 12} left" in room.views.about.text() and "worst first" in room.views.about.text()
    for place in review.worst_first.places()[1:]:
        workspace.edit("accept", lambda s, place=place: agree(s, place.part.id, [place.mark.id]))
    press(room, Key.Key_Return, qtbot=qtbot)
    assert "Everything that can be heard is decided" in room.views.message.text() and not review.worst_first.on
    assert room.hearing.hear == listened_with, "as before the review"
    assert left(workspace) == sum(
        len(marks) for which in PASSES for marks in workspace.audibility.inaudible(which).values()
    )
    press(room, key("Esses"), qtbot=qtbot)
    press(room, Key.Key_Z, Ctrl, qtbot)
    press(room, Key.Key_W, qtbot=qtbot)
    assert review.worst_first.on
    press(room, Key.Key_W, qtbot=qtbot)
    assert not review.worst_first.on and "Part by part" in room.views.message.text()


def test_a_setting_is_proposed_from_decisions_that_go_one_way(room, qtbot):
    workspace = room.workspace
    qtbot.waitUntil(lambda: workspace.part.found, timeout=60_000)
    press(room, Key.Key_Y, Shift, qtbot)
    assert "No setting is proposed" in room.views.message.text()
    before = workspace.part.ess
    for mark, change in workspace.part.changed("ess")[:6]:
        workspace.commands.set_changes({mark.id: change - 3.0})
    assert "5 decisions in Lead go one way" in room.views.message.text() and "Shift+Y" in room.views.message.text()
    others = [m for m, _ in workspace.part.changed("ess") if not m.hand.decided]
    changes, steps = [workspace.part.change(m) for m in others], workspace.keeper.history.at
    assert workspace.part.ess == before, "nothing is changed by itself"
    press(room, Key.Key_Y, Shift, qtbot)
    assert workspace.part.ess != before and workspace.keeper.history.at == steps + 1
    assert np.median([workspace.part.change(m) - c for m, c in zip(others, changes, strict=True)]) == pytest.approx(
        -3, abs=0.6
    )
    assert "Save what was accepted" in room.views.message.text()
    room.show_cards()
    page = room.findChild(CardsPage)
    menu = page.keep_accepted.menu()
    menu.aboutToShow.emit()
    assert [action.text() for action in menu.actions()] == ["In the card of Imke Sorrel", "In “My taste”"]
    menu.actions()[1].trigger()
    assert page.card.singer == OWN and "holds what Lead has" in page.words.text()
    accepted = workspace.part.ess
    press(room, Key.Key_Z, Ctrl, qtbot)
    assert workspace.part.ess == before and page.table.rowCount() == len(page.card.card.only) >= 1
    qtbot.mouseClick(page.use, Qt.MouseButton.LeftButton)
    assert workspace.part.ess == accepted
    page.close()


def test_a_treatment_goes_to_those_like_it_to_other_parts_and_to_those_in_hand(ready, qtbot):
    """Change, fades, curve in time and moved edges, in one step; what will be touched is outlined before."""
    room, workspace = ready, ready.workspace
    workspace.select_marks([])
    press(room, Key.Key_Q, qtbot=qtbot)
    assert "decide it first" in room.views.message.text()
    workspace.select_part("part-2")
    model = next(m for m, _ in workspace.part.changed("ess") if m.sound == "s" and same_place(
        workspace.session, "part-2", m, [p.id for p in workspace.session.parts]))  # fmt: skip
    workspace.select_marks([model.id])
    workspace.commands.set_changes({model.id: -9.0})
    workspace.commands.set_fades((30.0, 40.0))
    workspace.commands.set_shape(((0.0, 0.0), (1.0, -3.0)))
    workspace.commands.set_edge("start", model.start - 0.01, None)
    menu = treatment_menu(workspace, room)
    like, there, held = menu.actions()
    assert like.isEnabled() and there.isEnabled() and not held.isEnabled()
    like.hovered.emit()
    touched = workspace.outlined_here()
    assert touched and {m.sound for m in touched} == {"s"} and model.id not in {m.id for m in touched}
    room.grab()
    steps = workspace.keeper.history.at
    like.trigger()
    menu.aboutToHide.emit()
    assert not workspace.outlined and workspace.keeper.history.at == steps + 1
    for mark in touched:
        now = workspace.part.mark(mark.id)
        assert (workspace.part.change(now), now.hand.fades_ms) == (-9.0, (30.0, 40.0))
        assert now.span == pytest.approx((mark.start - 0.01, mark.end), abs=1e-3)
        assert now.hand.shape == ((0.0, 0.0), (1.0, -3.0))
    workspace.undo()
    assert all(workspace.part.mark(m.id).hand == m.hand for m in touched)
    there.trigger()
    met = same_place(workspace.session, "part-2", workspace.mark, [p.id for p in workspace.session.parts])
    for part_id, name in met:
        assert part_id != "part-2" and workspace.session.part(part_id).mark(name).hand.fades_ms == (30.0, 40.0)
    others = [m.id for m in workspace.marks if m.id != model.id][:3]
    workspace.select_marks([model.id, *others])
    held = treatment_menu(workspace, room).actions()[2]
    held.trigger()
    assert all(workspace.part.mark(name).hand.fades_ms == (30.0, 40.0) for name in others)
    assert "3 esses are treated like this one" in room.views.message.text()


def test_the_stack_stands_side_by_side_and_a_column_comes_down_as_one(ready, qtbot):
    """Each mark is in one column, one a part; dragging brings all of it to one level, what is lower stays."""
    room, workspace = ready, ready.workspace
    workspace.select_part("part-3")
    press(room, Key.Key_Y, qtbot=qtbot)
    chart = room.views.stack_chart
    qtbot.wait(100)  # laid out
    assert (
        chart.isVisible() and not room.views.skyline.isVisible() and "a ring: not" in room.views.about.accessibleName()
    )
    columns = chart.columns()
    told = [(one.part_id, one.mark.id) for column in columns for one in column.marks]
    assert sorted(told) == sorted((p.id, m.id) for p in workspace.session.parts for m in p.of_kind("ess"))
    assert all(len({one.part_id for one in c.marks}) == len(c.marks) for c in columns)
    column = next(c for c in columns if len(c.marks) == 4 and c.with_lead)
    assert any(not c.with_lead for c in columns) and column.end - column.start < 0.6
    workspace.viewport.show(column.start - 0.2 - workspace.offset, column.end + 0.2 - workspace.offset)
    rows = chart.bars(column)
    heights = [one.mark.standout_db for one, _ in rows]
    level = sorted(heights)[1] + 0.2  # two are lower
    middle = QPointF(rows[1][1].center().x(), rows[1][1].center().y())
    assert chart._at(middle)[0] == column
    steps = workspace.keeper.history.at
    drag(qtbot, chart, middle, QPointF(middle.x(), chart.y_of(level)))
    assert workspace.keeper.history.at == steps + 1
    for one, height in zip((one for one, _ in rows), heights, strict=True):
        part = workspace.session.part(one.part_id)
        assert height + part.change(part.mark(one.mark.id)) == pytest.approx(min(height, level), abs=0.6)
    chart.setFocus()
    press(chart, Key.Key_Down, qtbot=qtbot)
    after = [workspace.session.part(one.part_id).change(workspace.session.part(one.part_id).mark(one.mark.id))
             for one, _ in rows]  # fmt: skip
    assert min(after) < min(min(0.0, level - height) for height in heights) - 0.2
    workspace.undo()
    workspace.undo()
    lead = chart.bars(column)[0]
    qtbot.mouseClick(chart, Qt.MouseButton.LeftButton, pos=lead[1].center().toPoint())
    assert workspace.part.id == lead[0].part_id and workspace.selected_marks == (lead[0].mark.id,)
    room.grab()
    room.open_station(STATIONS.index("Line-up"))
    room.grab()
    press(room, Key.Key_Y, qtbot=qtbot)
    room.open_station(STATIONS.index("Esses"))
    assert room.views.skyline.isVisible() and not chart.isVisible()


def test_marks_are_a_table_too_and_views_say_which_one_is_selected(ready, qtbot):
    workspace = ready.workspace
    press(ready, Key.Key_T, Qt.KeyboardModifier.ControlModifier, qtbot)
    page = ready.findChild(MarksPage)
    table = page.table
    assert table.rowCount() == len(workspace.marks) and page.head.text().startswith("Esses · ")
    row = next(i for i, m in enumerate(workspace.marks) if workspace.part.acts(m))
    mark = workspace.marks[row]
    qtbot.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=table.visualItemRect(table.item(row, 0)).center())
    assert workspace.selected_marks == (mark.id,)
    said = ready.views.skyline.accessibleDescription()
    assert (
        said == ready.views.trace.accessibleDescription() and f"Ess {row + 1} of " in said and "over the voice" in said
    )
    assert table.item(row, 0).data(Qt.ItemDataRole.AccessibleDescriptionRole) in said
    press(ready, Key.Key_L, qtbot=qtbot)
    qtbot.waitUntil(lambda: table.item(row, 5).text() == "left as sung", timeout=2_000)
    press(ready, Key.Key_Right, qtbot=qtbot)
    chosen = {index.row() for index in table.selectionModel().selectedRows()}
    assert [workspace.marks[i].id for i in chosen] == list(workspace.selected_marks)
    page.close()
