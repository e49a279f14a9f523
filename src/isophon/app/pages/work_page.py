"""The main page: title row, parts, trace, skyline, lens and sheet, transport, and what ties them together."""

from __future__ import annotations

import gc
import time
from collections.abc import Iterator

from PySide6.QtCore import QEvent, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication, QWidget

from isophon.app import theme
from isophon.app.model.autosave import AutoSave
from isophon.app.model.demo_parts import DemoParts
from isophon.app.model.hearing import Hearing
from isophon.app.model.in_turns import InTurns
from isophon.app.model.played_marks import PlayedMarks
from isophon.app.model.recording_watch import RecordingWatch
from isophon.app.model.remembered import Remembered
from isophon.app.model.rendering_ahead import RenderingAhead
from isophon.app.model.review import Review, undecided
from isophon.app.model.risky import count_risky
from isophon.app.model.workspace import Workspace
from isophon.app.pages.cards_page import CardsPage
from isophon.app.pages.collecting import Collecting
from isophon.app.pages.held_keys import HeldKeys
from isophon.app.pages.help_page import HelpPage
from isophon.app.pages.history_page import HistoryPage
from isophon.app.pages.keys_page import KeysPage
from isophon.app.pages.listening_context import ListeningContext
from isophon.app.pages.mark_menu import show_menu
from isophon.app.pages.markers import Markers
from isophon.app.pages.marks_page import MarksPage
from isophon.app.pages.output_watch import OutputWatch
from isophon.app.pages.page_display import PageDisplay
from isophon.app.pages.preferences_page import PreferencesPage
from isophon.app.pages.route import HAND_OVER, LAY_OUT, STATIONS
from isophon.app.pages.taste_watch import TasteWatch
from isophon.app.pages.tour import Tour
from isophon.app.pages.versions_page import VersionsPage
from isophon.app.pages.work_keys import WorkKeys
from isophon.app.pages.work_views import WorkViews
from isophon.app.sheets import PASSES
from isophon.app.sheets.extras import Following
from isophon.app.sheets.sheet import Sheet
from isophon.app.views.keyboard import place_in_digit_row, reachable, show_in_scroll_areas, workable
from isophon.core.playing.remote import RemotePlayer

_TICK_MS, _REST_MS = 33, 400
_BACK_S = 0.1  # a jump back by more than this is a loop's


class WorkPage(QWidget):
    """Works on one open session."""

    open_asked = Signal()
    add_asked = Signal(list)
    title_changed = Signal()

    def __init__(self, workspace: Workspace, player: RemotePlayer, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("page")
        self.workspace = workspace
        workspace.setParent(self)
        self.demo_parts = DemoParts(workspace)  # before any view asks for their takes
        self.views = WorkViews(workspace, self)
        self._player = player
        self._place = 0.0  # what was heard last, in s
        self.left: Remembered | None = None  # as the session was left the last time; None: at the first pass
        self.played = PlayedMarks(workspace, self)
        self._tick = QTimer(self, interval=_TICK_MS)

    def building(self) -> Iterator[None]:
        yield from self.views.building()
        workspace = self.workspace
        self.hearing = Hearing(workspace, self._player, self)
        workspace.playhead_s = self.hearing.heard_at
        self._ahead = RenderingAhead(workspace, self.hearing.heard_at, self)
        self.output = OutputWatch(workspace, self.hearing, self.views.transport, self.tell)
        self.review = Review(workspace, PASSES, self)
        self.held_keys = HeldKeys(workspace, self.hearing, self.views.trace, self.views.transport, self.tell)
        self.display = PageDisplay(workspace, self.views, self.hearing, self.played, self.review, self)
        self._still = InTurns(
            workspace.analysis.noise_floor, lambda levels: self.views.transport.show_noise_floor(*levels), self
        )
        self._risks = InTurns(lambda: count_risky(workspace, PASSES), self.views.title.route.show_risky, self)
        self._audible = InTurns(lambda: workspace.audibility.counted(PASSES), self.display.show_audible, self, _REST_MS)
        workspace.audibility.changed.connect(self._audible.ask)
        self.taste = TasteWatch(workspace, self.tell)
        self.markers = Markers(workspace, self.hearing, self)
        self.tour = Tour(self)
        self.collecting = Collecting(workspace, self)
        self.watch = RecordingWatch(workspace)
        self._auto_save = AutoSave(workspace.keeper, time.monotonic)
        self._connect()
        self.keys = WorkKeys(self)
        workable(self)
        yield
        self.display.show_session()
        self.display.show_hearing()
        first = PASSES.index(workspace.pass_) + 1 if self.left is None else self.left.station
        self.open_station(min(HAND_OVER, max(LAY_OUT, first)) if workspace.session.parts else LAY_OUT)
        if self.left is not None:
            self.views.hand_over.form.restore(self.left.hand_over)
        yield
        self._tick.start()
        gc.collect()
        gc.freeze()  # what is there now stays; looking through it again and again would halt the window
        workspace.begin()

    @property
    def sheet(self) -> Sheet:
        """The sheet of the pass that is open."""
        return self.views.sheets.open

    def _connect(self) -> None:
        workspace, transport, hearing = self.workspace, self.views.transport, self.hearing
        self.views.layout_page.add_asked.connect(self.add_asked)
        self.views.layout_page.chart.play_asked.connect(hearing.play_item)
        self._tick.timeout.connect(self._follow)
        for counts in (self._still, self._risks, self._audible):
            self.display.changed.connect(counts.ask)
        self.display.title_changed.connect(self.title_changed)
        workspace.notice.connect(self.tell)
        workspace.troubled.connect(self.warn)
        boxes = next(i for i, which in enumerate(PASSES, 1) if which.hand.boxes)
        workspace.boxes_asked.connect(lambda: self.open_station(boxes))
        self.views.menu.open_asked.connect(self.open_asked)
        self.views.menu.keys_asked.connect(self.show_keys)
        self.views.menu.help_asked.connect(self.show_help)
        self.views.menu.collect_asked.connect(self.collecting.begin)
        self.views.menu.preferences_asked.connect(self.show_preferences)
        self.views.menu.tour_asked.connect(self.tour.begin)
        self.views.menu.history_asked.connect(self.show_history)
        self.views.menu.cards_asked.connect(self.show_cards)
        self.views.menu.versions_asked.connect(lambda: VersionsPage(workspace, self).show())
        self.views.menu.marks_asked.connect(self.show_marks)
        self.views.menu.marker_chosen.connect(self.markers.go_to)
        self.markers.notice.connect(self.tell)
        self.watch.notice.connect(self.warn)
        self.demo_parts.failed.connect(self.warn)
        self.views.hand_over.troubled.connect(self.warn)
        self.views.hand_over.part_asked.connect(self._open_part)
        self.views.trace.gestures.loop_asked.connect(hearing.loop_mark)
        self.views.trace.gestures.seek_asked.connect(hearing.seek)
        self.views.trace.gestures.scrubbed.connect(hearing.scrub)
        workspace.band_asked.connect(hearing.alone.hear_band)
        workspace.band_left.connect(hearing.alone.hear_all)
        self.views.draw.toggled.connect(self.set_drawing)
        self.views.title.undo.clicked.connect(self.review.undo)
        self.views.title.redo.clicked.connect(self.review.redo)
        self.views.title.route.station_chosen.connect(self.open_station)
        self.views.title.route.ear_asked.connect(lambda index: workspace.audition.next_aside(PASSES[index - 1]))
        self.views.lens.agreed.connect(self.review.agree)
        self.views.lens.left.connect(self.review.leave)
        self.views.lens.described.connect(self.views.trace.setAccessibleDescription)  # what a screen reader says
        self.views.lens.described.connect(self.views.skyline.setAccessibleDescription)
        self.review.arrived.connect(hearing.loop_mark)
        self._listening_context = ListeningContext(hearing)
        self.review.context_asked.connect(self._listening_context.ask)
        self.review.pass_asked.connect(lambda which: self.open_station(PASSES.index(which) + 1))
        self.review.ended.connect(lambda: self.open_station(HAND_OVER))
        self.played.rest_due.connect(self._remind_of_rest)
        transport.play_asked.connect(hearing.toggle_play)
        transport.loop_toggled.connect(hearing.set_looping)
        transport.compare_chosen.connect(hearing.set_compare)
        transport.match_toggled.connect(hearing.set_matched)
        transport.hear_chosen.connect(hearing.set_hear)
        transport.all_toggled.connect(hearing.set_compare_all)
        transport.turns_toggled.connect(hearing.set_in_turn)
        transport.time_chosen.connect(lambda song_s: hearing.seek(song_s - workspace.offset))
        for asks in (self.views.trace.gestures, self.views.skyline.gestures, self.views.lens.pictures):
            asks.menu_asked.connect(lambda at, mark, seconds: show_menu(self, at, mark, seconds))

    # what is shown

    def warn_of_the_session(self) -> None:
        """Warn about the recordings that were opened."""
        pool, sources = self.workspace.pool, [item.source for item in self.workspace.session.items]
        troubled = [pool.take(source).trouble for source in sources if not pool.awaited(source)]
        troubled = [why for why in troubled if why]
        if len(troubled) == 1:
            self.warn(troubled[0])
        elif troubled:
            self.warn(f"{len(troubled)} recordings cannot be used; Lay out (1) says why. {troubled[0]}")

    def tell(self, words: str) -> None:
        """Show one line to the person for a while."""
        self.views.message.tell(words, trouble=False)

    def warn(self, words: str) -> None:
        """The same of something that went wrong."""
        self.views.message.tell(words, trouble=True)

    def open_station(self, index: int) -> None:
        """Open a station of the route; the line about the one before goes with it."""
        if index != self.views.title.route.current:
            self.views.message.hide()
        if index != LAY_OUT:
            self.hearing.end_items()
        if LAY_OUT < index < HAND_OVER:
            self.workspace.open_pass(PASSES[index - 1])
            self.display.show_session()
            self.views.splits.open(PASSES[index - 1].kind)
        self.views.pages.setCurrentIndex(0 if index == LAY_OUT else 2 if index == HAND_OVER else 1)
        self.keys.set_seen(LAY_OUT < index < HAND_OVER)
        self.views.title.route.show_station(index)
        self._show_transport()
        self.setFocus()  # else it falls on whatever comes next, and Space presses that

    def _show_transport(self) -> None:
        """Where no pass is open the transport has no place, but while it plays."""
        in_a_pass = LAY_OUT < self.views.title.route.current < HAND_OVER
        self.views.transport.setVisible(in_a_pass or self.hearing.player.playing)

    def _open_part(self, part_id: str) -> None:
        """A part, from the results of handing over."""
        self.workspace.select_parts([part_id])
        self.open_station(PASSES.index(self.workspace.pass_) + 1)

    def show_help(self) -> None:
        """Open the manual at the station that is open."""
        HelpPage(STATIONS[self.views.title.route.current], self).show()

    def show_preferences(self) -> None:
        """Open the preferences."""
        PreferencesPage(self, self.views.transport.device.click).show()

    def show_keys(self) -> None:
        """Open the page of keys."""
        KeysPage(self).open()

    def show_history(self) -> None:
        """Open the history beside the work."""
        HistoryPage(self.workspace, self).show()

    def show_marks(self) -> None:
        """Open the marks of the pass as a table beside the work."""
        MarksPage(self.workspace, self).show()

    def show_cards(self) -> None:
        """Open the voice cards beside the work."""
        CardsPage(self.workspace, self).show()

    def focusNextPrevChild(self, on: bool) -> bool:
        """Tab goes on as the eye does: the title row, the page from left to right and down, the transport."""
        order = [widget for area in self.views.areas() for widget in reachable(area)]
        if not order:
            return False
        now = QApplication.focusWidget()
        place = order.index(now) if now in order else (-1 if on else 0)
        following = order[(place + (1 if on else -1)) % len(order)]
        following.setFocus(Qt.FocusReason.TabFocusReason if on else Qt.FocusReason.BacktabFocusReason)
        show_in_scroll_areas(following)
        return True

    # hearing

    def keyPressEvent(self, event: QKeyEvent) -> None:
        seen = LAY_OUT < self.views.title.route.current < HAND_OVER
        if (station := place_in_digit_row(event)) is not None:
            self.open_station(station)
        elif not (seen and self.held_keys.press(event)):
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent) -> None:
        if not self.held_keys.release(event):
            super().keyReleaseEvent(event)

    def give_up(self) -> None:
        """Give up a box that is being drawn, or take back the one that was drawn last."""
        if self.tour.isVisible():
            self.tour.end()
            return
        if self.views.large.end() or self.views.trace.gestures.give_up_box() or self.views.lens.pictures.give_up_box():
            return
        if self.views.draw.isChecked():
            self.views.draw.setChecked(False)
        elif self.workspace.selected_time:
            self.workspace.select_time(None)
        elif (self.workspace.keeper.history.undo_name or "").startswith("draw"):
            self.review.undo()

    def set_drawing(self, on: bool) -> None:
        """Whether dragging over map and lens draws a box."""
        self.workspace.drawing = on
        for view in (self.views.trace, self.views.lens.pictures):
            view.setCursor(Qt.CursorShape.CrossCursor if on else Qt.CursorShape.ArrowCursor)

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and not self.isActiveWindow():
            self.held_keys.end()
        super().changeEvent(event)

    def _follow(self) -> None:
        workspace, player = self.workspace, self.hearing.player
        self._show_transport()
        seconds = self.hearing.heard_at()
        self.views.transport.show_time(theme.clock(max(0.0, seconds + workspace.offset)))
        self.views.transport.show_playing(player.playing, player.preparing, player.as_sung_for_now)
        self.output.follow()
        if player.trouble:
            self.warn(f"{player.trouble}. Playing stopped; the work is kept.")
            player.trouble = ""
        self.views.layout_page.chart.show_playhead(seconds + workspace.offset if player.playing else None)
        self.views.trace.set_playhead(seconds, player.playing and not self.hearing.loop_span())  # a loop stays in view
        picture = self.sheet.picture
        if isinstance(picture, Following):
            picture.follow(seconds, player.playing)
        if player.playing:
            if seconds < self._place - _BACK_S:
                self.hearing.came_round()
            self._place = seconds
            self.played.follow(seconds, _TICK_MS / 1000)

    def _remind_of_rest(self) -> None:
        if self.views.menu.rest.isChecked():
            self.tell("You have listened for 20 minutes. Rest your ears for 10 to 15 minutes.")

    # the window's state

    def remembered(self) -> Remembered:
        """What is remembered of this session."""
        station = self.views.title.route.current
        left = sum(undecided(self.workspace.session, which) for which in PASSES)
        parts = len(self.workspace.session.parts)
        about = f"{parts} part{'s' if parts != 1 else ''}, {left or 'nothing'} undecided, left at {STATIONS[station]}"
        return Remembered(station, self.views.hand_over.form.chosen(), about)

    def rest_aside(self) -> None:
        """Be quiet and write everything down while something else is being opened."""
        self.hearing.player.stop()
        self.workspace.keeper.settle()

    def shut(self) -> None:
        """Stop playing, keep what is unsaved, give the device back."""
        self._tick.stop()
        self._still.stop()
        self._audible.stop()
        self.views.trace.map.maker.stop()
        self.played.keep()
        self._ahead.close()
        self.views.hand_over.shut()
        self.hearing.close()
        self.demo_parts.close()
        self.workspace.close()
        gc.unfreeze()  # what is gone is to be found
