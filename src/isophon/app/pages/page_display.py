"""What the views of the main page show of the session, of what is selected and of how it is heard."""

from __future__ import annotations

import time

from PySide6.QtCore import QObject, Signal

from isophon.app import theme
from isophon.app.model.card_shelf import card_of
from isophon.app.model.hearing import Hearing
from isophon.app.model.keys import key_book, keyed, shown_key
from isophon.app.model.played_marks import PlayedMarks
from isophon.app.model.review import Review, undecided
from isophon.app.model.workspace import AUDIBLE, Workspace
from isophon.app.pages.route import LAY_OUT, Count
from isophon.app.pages.work_views import WorkViews
from isophon.app.sheets import PASSES
from isophon.app.translation import tr
from isophon.core.passes import NAMES
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from isophon.core.session.settings import role_default


class PageDisplay(QObject):
    """Keeps the views as the session is. ``changed``: the session did; ``title_changed``: the window's title did."""

    changed = Signal()
    title_changed = Signal()

    def __init__(
        self, workspace: Workspace, views: WorkViews, hearing: Hearing, played: PlayedMarks, review: Review,
        parent: QObject,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.workspace, self._views, self._hearing = workspace, views, hearing
        self._played, self._review = played, review
        self._remarked: set[Source] = set()
        self._proposed: set[str] = set()
        self._whose = ""
        workspace.session_changed.connect(self.show_session)
        workspace.take_changed.connect(self.show_session)
        workspace.take_changed.connect(self._remark_on_take)
        workspace.selection_changed.connect(self.show_about)
        workspace.keeper.saved.connect(self._show_state)
        views.orders.chosen.connect(self.show_about)
        views.stack.toggled.connect(self.show_session)
        hearing.changed.connect(self.show_hearing)

    def show_session(self) -> None:
        """Show the session as it is now."""
        part, which = self.workspace.part, self.workspace.pass_
        self._show_counts()
        self._show_state()
        role = f"{part.name}, {theme.ROLE_WORDS[part.role]}"
        voice = "" if part.voice_lufs is None else f" · voice {theme.signed(part.voice_lufs)} LUFS"
        if part.found and part.voice_lufs is None:
            voice = " · no voice found"
        empty = self._views.skyline.empty and not self._views.stack.isChecked()
        self._whose = f"{role}{voice}"
        self.show_about()
        self._views.show_stack(self._views.stack.isChecked())
        self._views.under_map.setMaximumHeight(
            self._views.under_map.minimumSizeHint().height() if empty else theme.NO_LIMIT
        )
        self._views.will_sound.setVisible(which.skyline.will_sound and not empty)
        self._views.draw.setVisible(not empty)
        self._views.orders.setVisible(not empty)
        self.changed.emit()
        history = self.workspace.keeper.history
        steps = (
            (self._views.title.undo, history.undo_name, "undo"),
            (self._views.title.redo, history.redo_name, "redo"),
        )
        for button, name, action in steps:
            button.setEnabled(name is not None)
            button.setToolTip(f"{name or f'Nothing to {action}'} ({shown_key(key_book().key(action))})")

    def show_audible(self, counts: dict[int, tuple[int, int]]) -> None:
        """Show how many marks of each pass are worth hearing, and how many cannot be heard."""
        self._views.title.route.show_audible(counts)
        self.show_about()

    def show_about(self) -> None:
        """Show in a line over the skyline what it shows."""
        self._views.about.setText(tr(self._about()))

    def _show_counts(self) -> None:
        session, counts = self.workspace.session, {}
        played = {*session.heard, *self._played.names}
        for i, which in enumerate(PASSES, 1):
            over = [part.over(which.kind) for part in session.parts]
            unheard = sum(len(names - played) for names in over)
            counts[i] = Count(sum(map(len, over)), undecided(session, which), unheard)
        self._views.title.route.show_counts(counts, bool(self.workspace.analysis.leaks.stale()))
        how, aside = self.workspace.audition.aside
        self._views.title.route.show_aside(PASSES.index(aside) + 1 if aside else LAY_OUT, how)

    def _show_state(self) -> None:
        keeper, part = self.workspace.keeper, self.workspace.part
        self._views.title.name.setText(self.workspace.session.name)
        state = "kept in the journal, not saved yet" if keeper.unsaved else "saved"
        state = "NOT KEPT: no room for the journal" if keeper.at_risk else state
        if not keeper.unsaved and keeper.saved_at:
            state = "saved " + time.strftime("%H:%M", time.localtime(keeper.saved_at))
        kind = {1: "mono", 2: "stereo"}.get(part.source.channels, "")
        about = f" · {kind}, {part.source.sample_rate / 1000:g} kHz, {theme.clock(part.source.duration)}"
        version = self.workspace.session.version
        about = f" · version {version}{about}" if version else about
        self._views.title.state.setText(
            tr(state) + (tr(about) if part.id else "")
        )  # what is lost without being read comes first
        self.title_changed.emit()

    def show_hearing(self) -> None:
        """Show in the transport how it is heard."""
        hearing, transport = self._hearing, self._views.transport
        self.show_about()
        transport.show_compare(hearing.compare)
        transport.show_hear(hearing.hear)
        transport.all.setChecked(hearing.compare_all)
        transport.turns.setChecked(hearing.in_turn)
        transport.loop.setChecked(hearing.looping)
        transport.match.setChecked(hearing.matched)

    def _remark_on_take(self) -> None:
        """Warn once about the selected take."""
        take, part = self.workspace.take, self.workspace.part
        if take.source in self._remarked or take.figures is None or not part.found:
            return
        self._remarked.add(take.source)
        self._propose_card(part)
        if part.voice_lufs is None:
            self.workspace.notice.emit(
                f"No voice was found in {part.name}, so nothing can be measured against it; it still plays."
            )
        elif take.figures.clipped:
            self.workspace.notice.emit(f"{part.name} has clipped: {take.figures.clipped} samples stand at full scale.")

    def _propose_card(self, part: Part) -> None:
        """Say once that there is a card for the singer of a part that nobody has set anything for."""
        if not part.singer or part.singer in self._proposed or not part.found:
            return
        self._proposed.add(part.singer)
        plain = all(part.settings(kind) == role_default(kind, part.role) for kind in NAMES)
        if plain and card_of(part.singer) is not None:
            self.workspace.notice.emit(f"A voice card of {part.singer} is kept; apply it under More, Voice cards.")

    def _about(self) -> str:
        """What the skyline shows, and how much of it is left to be heard."""
        workspace, route, skyline = self.workspace, self._views.title.route, self._views.skyline
        if skyline.empty:
            return skyline.empty_text()
        words = workspace.pass_.words
        in_time = workspace.pass_.skyline.over_frequency and not workspace.over_frequency
        what = words.in_time[0] if in_time else f"{words.many}{words.over_what}"
        if self._review.worst_first.on:
            what = self._review.worst_first.words()
        elif self._views.stack.isChecked():
            what = "all parts; a dot: with the lead, a ring: not"
        elif workspace.order == AUDIBLE:
            what = route.worth_hearing(route.current) or what
        lifted_db = self._hearing.alone.pauses_db
        pauses = keyed(f"pauses alone, +{lifted_db:.0f} dB ({{pauses}}) · ") if lifted_db else ""
        return f"{pauses}{what} · {self._whose}"
