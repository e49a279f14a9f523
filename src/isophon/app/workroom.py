"""The main page: title row, trace, skyline, lens and sheet, transport, and what ties them together."""

from __future__ import annotations

import time

from PySide6.QtCore import QEvent, Qt, QTimer, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import (
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from isophon.app import theme
from isophon.app.desk import Desk
from isophon.app.device import open_device
from isophon.app.hand_over_page import HandOverPage
from isophon.app.keys import KeysPage, key_of
from isophon.app.lens import Lens
from isophon.app.route import TitleRow
from isophon.app.session_menu import SessionMenu
from isophon.app.sheet import EssSheet
from isophon.app.skyline import Skyline
from isophon.app.trace import Trace
from isophon.app.transport import Transport
from isophon.core.player import COMPARES, Player

_STEP_DB = 0.5
_TICK_MS = 33
_MESSAGE_MS = 9_000
_REST_AFTER_S = 20 * 60.0
_BEFORE_MARK_S, _AFTER_MARK_S = 0.35, 0.35


class Workroom(QWidget):
    """Works on one open session."""

    open_asked = Signal()
    title_changed = Signal()

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent, objectName="page")
        self.desk = desk
        desk.setParent(self)
        self.heard: set[str] = set()
        self.compare = "cleaned"
        self._looped: tuple[str, ...] = ()
        self.listened_s = 0.0
        self.player = Player(desk.take.renderer, open_device)
        self.menu = SessionMenu(desk, self)
        self.title = TitleRow(self.menu)
        self.trace, self.skyline = Trace(desk), Skyline(desk)
        self.lens, self.sheet = Lens(desk), EssSheet(desk)
        self.hand_over, self.transport = HandOverPage(desk), Transport()
        self.message = QLabel("", objectName="message", wordWrap=True)
        self.message.hide()
        self.pages = QStackedWidget()
        self._hush = QTimer(self, singleShot=True, interval=_MESSAGE_MS)
        self._hush.timeout.connect(self.message.hide)
        self._tick = QTimer(self, interval=_TICK_MS)
        self._tick.timeout.connect(self._follow)
        self._lay_out()
        self._connect()
        self._add_keys()
        self.transport.show_device(self.player.device.name, self.player.device.silent)
        self._session_changed()
        self._tick.start()

    # building

    def _lay_out(self) -> None:
        heading = QHBoxLayout()
        heading.setContentsMargins(16, 4, 16, 0)
        self.about = QLabel("", objectName="soft")
        heading.setSpacing(0)
        heading.addWidget(QLabel("Skyline", objectName="head"))
        heading.addSpacing(14)
        heading.addWidget(self.about, 1)
        order = QButtonGroup(self)
        self.in_time, self.tallest = (
            QPushButton(text, checkable=True, objectName="") for text in ("in time", "tallest first")
        )
        self.in_time.setChecked(True)
        for button in (self.in_time, self.tallest):
            order.addButton(button)
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            heading.addWidget(button)
        chart = QWidget()
        column = QVBoxLayout(chart)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(heading)
        column.addWidget(self.skyline, 1)
        close = QWidget()
        row = QHBoxLayout(close)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.lens, 3)
        row.addWidget(_rule(vertical=True))
        row.addWidget(self.sheet, 2)
        work = QSplitter(Qt.Orientation.Vertical, childrenCollapsible=False)
        for widget, share in ((self.trace, 5), (chart, 4), (close, 4)):
            work.addWidget(widget)
            work.setStretchFactor(work.count() - 1, share)
        work.setSizes([262, 208, 212])
        self.pages.addWidget(work)
        self.pages.addWidget(self.hand_over)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for widget in (self.title, _rule(), self.message, self.pages, _rule(), self.transport):
            layout.addWidget(widget, 1 if widget is self.pages else 0)

    def _connect(self) -> None:
        desk, transport = self.desk, self.transport
        desk.session_changed.connect(self._session_changed)
        desk.hand_changed.connect(self._hand_changed)
        desk.saved_changed.connect(self._show_state)
        desk.told.connect(self.tell)
        self.menu.open_asked.connect(self.open_asked)
        self.menu.keys_asked.connect(self.show_keys)
        self.hand_over.told.connect(self.tell)
        self.trace.loop_asked.connect(self._loop_mark)
        self.trace.seek_asked.connect(self._seek)
        self.tallest.toggled.connect(self.skyline.set_by_rank)
        self.title.undo.clicked.connect(desk.undo)
        self.title.redo.clicked.connect(desk.redo)
        self.title.route.station_chosen.connect(self.open_station)
        transport.play_asked.connect(self.toggle_play)
        transport.loop_toggled.connect(lambda on: self._set_loop())
        transport.compare_chosen.connect(self.set_compare)
        transport.match_toggled.connect(lambda on: self._show_match())

    def _add_keys(self) -> None:
        desk = self.desk
        actions = {
            "next": lambda: desk.walk(1),
            "previous": lambda: desk.walk(-1),
            "next_over": lambda: desk.walk(1, True),
            "previous_over": lambda: desk.walk(-1, True),
            "next_phrase": lambda: desk.walk_phrases(1, self._heard_at()),
            "previous_phrase": lambda: desk.walk_phrases(-1, self._heard_at()),
            "more": lambda: desk.change_more(-_STEP_DB),
            "less": lambda: desk.change_more(_STEP_DB),
            "leave": desk.toggle_leave,
            "forget": desk.forget_hand,
            "draw": desk.draw_mark,
            "play": self.toggle_play,
            "loop": self.transport.loop.toggle,
            "compare": self._next_compare,
            "match": self.transport.match.toggle,
            "zoom_in": lambda: self.trace.zoom(1 / 1.6),
            "zoom_out": lambda: self.trace.zoom(1.6),
            "zoom_mark": self._zoom_mark,
            "whole": lambda: desk.set_view(0, desk.take.recording.duration),
            "rank": lambda: (self.in_time if self.tallest.isChecked() else self.tallest).setChecked(True),
            "undo": desk.undo,
            "redo": desk.redo,
            "save": self.menu.save,
            "save_as": self.menu.save_as,
            "open": self.open_asked.emit,
            "esses": lambda: self.open_station(0),
            "hand_over": lambda: self.open_station(1),
            "keys": self.show_keys,
        }
        for name, action in actions.items():
            shortcut = QShortcut(
                QKeySequence(key_of(name)), self, context=Qt.ShortcutContext.WidgetWithChildrenShortcut
            )
            shortcut.activated.connect(action)

    # what is shown

    def warn_of_the_take(self) -> None:
        """Say what a wary eye sees in the take itself."""
        take = self.desk.take
        if self.desk.part.voice_lufs is None:
            self.tell("No voice was found in this recording, so nothing can be measured against it; it can be heard.")
        elif take.clipped:
            self.tell(f"This take has clipped: {take.clipped} samples stand at full scale beside another one.")

    def tell(self, words: str) -> None:
        """Show one line to the person for a while."""
        self.message.setText(words)
        self.message.show()
        self._hush.start()

    def _session_changed(self) -> None:
        part = self.desk.part
        self.player.set_plan(part.plan)
        self._show_match()
        self._show_counts()
        self._show_state()
        role = f"{part.name}, {part.role}"
        voice = "no voice found" if part.voice_lufs is None else f"voice {theme.signed(part.voice_lufs)} LUFS"
        self.about.setText(f"esses of {role}, in dB over the voice around them · {voice}")
        history = self.desk.history
        for button, name, key in (
            (self.title.undo, history.undo_name, "Ctrl+Z"),
            (self.title.redo, history.redo_name, "Ctrl+Shift+Z"),
        ):
            button.setEnabled(name is not None)
            button.setToolTip(f"{name} ({key})" if name else "")

    def _show_counts(self) -> None:
        part = self.desk.part
        over = [m for m in part.marks if part.change(m) < 0]
        self.title.route.show_counts(len(over), sum(1 for m in over if m.id not in self.heard))

    def _show_state(self) -> None:
        desk = self.desk
        self.title.name.setText(desk.session.name)
        kept = "kept in the journal, not saved yet" if desk.unsaved else "saved"
        if not desk.unsaved and desk.saved_at:
            kept = "saved " + time.strftime("%H:%M", time.localtime(desk.saved_at))
        recording = desk.take.recording
        kind = {1: "mono", 2: "stereo"}[recording.channels]
        self.title.state.setText(
            f"{kind}, {recording.sample_rate / 1000:g} kHz, {theme.clock(recording.duration)} · {kept}"
        )
        self.title_changed.emit()

    def _show_match(self) -> None:
        on = self.transport.match.isChecked()
        gain = self.desk.take.matched_gain_db(self.desk.part.plan) if on else 0.0
        self.player.set_match(gain)
        self.transport.show_match(on, gain)

    def open_station(self, index: int) -> None:
        """Open a station of the route."""
        self.pages.setCurrentIndex(index)
        self.title.route.show_station(index)

    def show_keys(self) -> None:
        """Open the page of keys."""
        KeysPage(self).open()

    # hearing

    def toggle_play(self) -> None:
        """Play or stop."""
        if self.player.playing:
            self.player.stop()
        else:
            recording = self.desk.take.recording
            if self.player.position >= recording.frames - 1:
                self.player.seek(0)
            self.player.play()

    def set_compare(self, name: str) -> None:
        """Choose what is heard."""
        self.compare = name
        self.player.set_compare(name)
        self.transport.show_compare(name)

    def _next_compare(self) -> None:
        self.set_compare(COMPARES[(COMPARES.index(self.compare) + 1) % len(COMPARES)])

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_S and not event.modifiers() and not event.isAutoRepeat():
            self.player.set_compare("as sung")
            self.transport.show_compare("as sung")
        else:
            super().keyPressEvent(event)

    def keyReleaseEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_S and not event.isAutoRepeat():
            self.set_compare(self.compare)
        else:
            super().keyReleaseEvent(event)

    def changeEvent(self, event) -> None:
        if event.type() == QEvent.Type.ActivationChange and not self.isActiveWindow():
            self.set_compare(self.compare)
        super().changeEvent(event)

    def loop_span(self) -> tuple[int, int] | None:
        """The frames that loop: the selection, else what surrounds the marks in hand."""
        if not self.transport.loop.isChecked():
            return None
        rate, last = self.desk.take.recording.sample_rate, self.desk.take.recording.frames
        marks = self.desk.marks_in_hand()
        if self.desk.selection:
            start, end = self.desk.selection
        elif marks:
            start = min(m.span[0] for m in marks) - _BEFORE_MARK_S
            end = max(m.span[1] for m in marks) + _AFTER_MARK_S
        else:
            return None
        return max(0, round(start * rate)), min(last, round(end * rate))

    def _hand_changed(self) -> None:
        self._set_loop()
        span = self.loop_span()
        if span and self.desk.in_hand != self._looped:
            self.player.seek(span[0])
        self._looped = self.desk.in_hand

    def _set_loop(self) -> None:
        self.player.set_loop(self.loop_span())

    def _loop_mark(self) -> None:
        self.transport.loop.setChecked(True)
        self._set_loop()
        self.player.play()

    def _seek(self, seconds: float) -> None:
        self.player.set_loop(None)
        self.player.seek(round(seconds * self.desk.take.recording.sample_rate))

    def _heard_at(self) -> float:
        return self.player.position / self.desk.take.recording.sample_rate

    def _follow(self) -> None:
        seconds = self._heard_at()
        self.transport.show_playing(self.player.playing)
        self.transport.clock.setText(theme.clock(seconds))
        self.transport.meter.show_peak(self.player.peak())
        self.trace.set_playhead(seconds, self.player.playing)
        if self.player.playing:
            self._listened(_TICK_MS / 1000)
            heard = {m.id for m in self.desk.part.marks if m.span[0] <= seconds <= m.span[1]} - self.heard
            if heard:
                self.heard |= heard
                self._show_counts()

    def _listened(self, seconds: float) -> None:
        """Count the listening, and remind of a rest where that is wanted."""
        self.listened_s += seconds
        if self.listened_s >= _REST_AFTER_S:
            self.listened_s = 0.0
            if self.menu.rest.isChecked():
                self.tell("Ears tire of esses: 20 minutes were listened. A rest of 10 to 15 minutes does them good.")

    def _zoom_mark(self) -> None:
        mark = self.desk.mark
        if mark:
            middle = sum(mark.span) / 2
            self.desk.set_view(middle - 0.75, middle + 0.75)

    def rest_aside(self) -> None:
        """Be quiet and write everything down while something else is being opened."""
        self.player.stop()
        self.desk.settle()

    def shut(self) -> None:
        """Stop playing, keep what is unsaved, give the device back."""
        self._tick.stop()
        self.player.close()
        self.desk.settle()
        self.desk.take.recording.close()


def _rule(vertical: bool = False) -> QFrame:
    line = QFrame()
    line.setStyleSheet(f"background: {theme.RULE.name()}")
    if vertical:
        line.setFixedWidth(1)
    else:
        line.setFixedHeight(1)
    return line
