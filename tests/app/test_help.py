"""Help inside the window: the manual at what is open, its search and pictures; the guided tour does what it says."""

import pytest
from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QTextDocument
from PySide6.QtWidgets import QPushButton

from driving import all_found, opened, press
from isophon.app.model.keys import key_book
from isophon.app.model.manual import KEYS_CHAPTER, chapters, folder
from isophon.app.pages.help_page import HelpPage
from isophon.app.pages.route import HAND_OVER, LAY_OUT, STATIONS
from isophon.app.pages.tour_steps import STEPS
from isophon.app.sheets import PASSES

Key = Qt.Key
SHIFT = Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def esses(room, qtbot):
    all_found(room, qtbot)
    room.open_station(STATIONS.index("Esses"))
    return room


def help_page(room, qtbot) -> HelpPage:
    qtbot.waitUntil(lambda: bool(room.findChildren(HelpPage)), timeout=5_000)
    return room.findChildren(HelpPage)[-1]


def test_help_opens_at_what_is_open_and_every_station_has_a_chapter(room, qtbot):
    names = [one.name for one in chapters(key_book().groups)]
    assert set(STATIONS) <= set(names)
    for station in (LAY_OUT, STATIONS.index("Breaths"), HAND_OVER):
        room.window().activateWindow()
        qtbot.waitUntil(room.window().isActiveWindow, timeout=5_000)
        room.open_station(station)
        press(room, Key.Key_F1, qtbot=qtbot)
        page = help_page(room, qtbot)
        assert page.list.currentItem().text() == STATIONS[station]
        assert page.text.toPlainText().startswith(STATIONS[station])
        page.close()
        qtbot.waitUntil(lambda: not room.findChildren(HelpPage), timeout=5_000)


def test_a_search_lists_the_chapters_that_have_it_and_return_walks_the_places(qtbot):
    page = HelpPage("Esses")
    qtbot.addWidget(page)
    page.show()
    qtbot.keyClicks(page.words, "look-AHEAD")
    listed = [page.list.item(i).text() for i in range(page.list.count()) if not page.list.item(i).isHidden()]
    assert (
        listed == [one.name for one in chapters(key_book().groups) if "look-ahead" in one.text.lower()]
        and "Esses" in listed
    )
    qtbot.keyClick(page.words, Key.Key_Return)
    assert page.text.textCursor().selectedText().lower() == "look-ahead" and page.isVisible()
    page.words.setText("xyzzy")
    assert page.found.text() == "nowhere"
    page.words.clear()
    assert not any(page.list.item(i).isHidden() for i in range(page.list.count()))


def test_every_key_and_every_picture_is_in_the_manual_of_the_window(qtbot):
    page = HelpPage(KEYS_CHAPTER)
    qtbot.addWidget(page)
    page.show()
    text = page.text.toPlainText()
    assert all(spelling in text and what in text for _, group in key_book().groups for _, spelling, what in group)
    pictures = [line for one in chapters(key_book().groups) for line in one.text.splitlines() if line.startswith("![")]
    assert pictures and all((folder() / line.split("(")[1].rstrip(")")).is_file() for line in pictures)
    page.open_chapter("Breaths")
    qtbot.wait(150)  # laid out in its room
    document = page.text.document()
    picture = document.resource(QTextDocument.ResourceType.ImageResource.value, QUrl("screenshots/breaths.png"))
    room = page.text.viewport().width()
    assert 0.8 * room < picture.width() <= room and document.size().height() > picture.height() > 200
    page.resize(700, 500)
    qtbot.wait(150)
    picture = document.resource(QTextDocument.ResourceType.ImageResource.value, QUrl("screenshots/breaths.png"))
    assert 0.8 * room * 0.5 < picture.width() <= page.text.viewport().width() < room, "as wide as the page is now"


def test_the_tour_does_what_it_says_and_takes_it_back(esses, qtbot):
    room, workspace = esses, esses.workspace
    before, steps = workspace.session, workspace.keeper.history.at
    room.views.menu.tour_asked.emit()
    tour = room.tour
    seen, ceiling = [], workspace.part.ess.ceiling_db
    while tour.isVisible():
        seen.append((tour.title.text(), tour.count.text()))
        assert tour.does.isEnabled() and tour._ring.isVisible() and tour.geometry().bottom() < room.height()
        qtbot.mouseClick(tour.does, Qt.MouseButton.LeftButton)  # it does so
        title = seen[-1][0]
        if title == "As sung, cleaned":
            assert room.hearing.player.playing and room.hearing.compare == "cleaned"
        elif title == "The ceiling":
            assert workspace.part.ess.ceiling_db == ceiling - 3
        elif title == "By hand":
            assert workspace.mark.hand.change_db is not None
        elif title == "Decide":
            assert workspace.keeper.history.undo_name.startswith("accept") and workspace.keeper.history.at == steps + 3
        elif title == "Nothing is lost":
            assert workspace.session.parts == before.parts and workspace.keeper.history.at == steps
        qtbot.mouseClick(tour.does, Qt.MouseButton.LeftButton)  # and goes on
    assert seen == [(step.title, f"{i} of {len(STEPS)}") for i, step in enumerate(STEPS, 1)] and len(STEPS) == 8
    assert room.views.title.route.current == HAND_OVER and not room.hearing.player.playing


def test_the_tour_can_be_left_at_any_time_and_waits_for_the_analysis(room, qtbot):
    room.tour.begin()
    if not room.workspace.session.lead.found:
        assert not room.tour.does.isEnabled() and "analysed" in room.tour.does.text()
    all_found(room, qtbot)
    qtbot.waitUntil(room.tour.does.isEnabled, timeout=5_000)
    press(room, Key.Key_Escape, qtbot=qtbot)
    assert not room.tour.isVisible() and not room.tour._ring.isVisible()
    room.tour.begin()
    leave = next(b for b in room.tour.findChildren(QPushButton) if b.text() == "Leave the tour")
    qtbot.mouseClick(leave, Qt.MouseButton.LeftButton)
    assert not room.tour.isVisible()


def test_the_first_look_at_a_pass_says_what_to_look_at_until_something_is_decided(esses, window, qtbot):
    room, workspace = esses, esses.workspace
    for which in PASSES:
        room.open_station(STATIONS.index(which.name))
        assert which.words.first_look and room.sheet.first_look.isVisible(), which.name
    room.open_station(STATIONS.index("Esses"))
    room.window().activateWindow()
    qtbot.waitUntil(room.window().isActiveWindow, timeout=5_000)
    press(room, Key.Key_Right, SHIFT, qtbot=qtbot)
    press(room, Key.Key_Return, qtbot=qtbot)
    assert not room.sheet.first_look.isVisible()
    again = opened(window, workspace.keeper.saved_as, qtbot)
    again.open_station(STATIONS.index("Esses"))
    assert not again.sheet.first_look.isVisible(), "it has done its work"
    again.open_station(STATIONS.index("Breaths"))
    assert again.sheet.first_look.isVisible()


def test_the_start_page_tells_how_far_the_work_was(window, room, qtbot):
    room.open_station(HAND_OVER)
    window.close_session()
    rows = [window.start.lists.itemAt(i).widget() for i in range(window.start.lists.count())]
    said = next(row.toolTip() for row in rows if "song" in getattr(row, "text", str)())
    assert "5 parts" in said and "left at Hand over" in said
