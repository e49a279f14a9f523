"""The window: start page or work_page, opening files in the background, recent sessions."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QTimer
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QMainWindow, QStackedWidget, QWidget

from isophon.app import theme
from isophon.app.background import Background
from isophon.app.model.keys import keyed
from isophon.app.pages.start_page import StartPage
from isophon.app.translation import tr
from isophon.app.views.file_dialog import SOUND_FILES, files_to_open
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, named
from isophon.app.window_state import WindowState
from isophon.core.reading import real

_SESSION_ENDING = ".isophon"
_FILTER = f"Recordings and sessions (*.isophon {SOUND_FILES})"


def _opening() -> ModuleType:
    from isophon.app.model import opening

    return opening


if TYPE_CHECKING:
    from types import ModuleType

    from isophon.app.model.jobs import Job
    from isophon.app.model.opening import Opened, Progress
    from isophon.app.pages.work_page import WorkPage


class Window(QMainWindow):
    """Numeric modules are imported only once something is opened, so that the first picture comes at once."""

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Isophon")
        self.setWindowIcon(theme.app_icon())
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.start = StartPage()
        self.work_page: WorkPage | None = None
        self._job: Job | None = None
        self._warned, self._touring = False, False
        self.background, self._state = Background(), WindowState()
        self._entering: Iterator[None] = iter(())  # the page that is being built
        self._next_turn = QTimer(self, interval=0)
        self._next_turn.timeout.connect(self._go_on_entering)
        self.message = Label("", objectName="message", wordWrap=True)
        self.message.hide()
        first = named(QWidget(), "page")
        column = make_column(first)
        column.addWidget(self.message)
        column.addWidget(self.start, 1)
        self.stack = QStackedWidget()
        self.stack.addWidget(first)
        self.setCentralWidget(self.stack)
        self.start.open_asked.connect(self.ask_open)
        self.start.demo_asked.connect(self.open_demo)
        self.start.tour_asked.connect(self._tour_demo)
        self.start.path_chosen.connect(self.open_path)
        self.start.recover_asked.connect(self.recover)
        self.start.cancel_asked.connect(lambda: self._job and self._job.cancel())
        self.start.new_asked.connect(self.new_session)
        self.start.keys_asked.connect(self._show_keys)
        self.start.help_asked.connect(self._show_help)
        self.start.preferences_asked.connect(self._show_preferences)
        self.start.quit_asked.connect(self.close)
        self._state.recall(self)
        QTimer.singleShot(0, self._show_lists)

    # opening

    def ask_open(self) -> None:
        """Ask for recordings or a session."""
        paths = files_to_open(self, "Open", None, _FILTER)
        if paths:
            self.open_paths(paths)

    def open_path(self, path: Path) -> None:
        """Open a session, or a new one of a recording or folder."""
        self.open_paths([path], anew=True)

    def open_paths(self, paths: list[Path], anew: bool = False) -> None:
        """Open a session, or lay out recordings and folders: in the session that is open, or ``anew``."""
        paths = [real(Path(path)) for path in paths]
        session = next((path for path in paths if path.suffix == _SESSION_ENDING), None)
        if session is not None:
            self._begin(f"Opening {session.name}", lambda _progress: _opening().open_session(session))
        elif self.work_page is not None and not anew:
            self.add_recordings(self.work_page.views.menu.import_dropped(paths))
        else:
            self._begin("Reading what was dropped", lambda progress: _opening().open_recordings(paths, progress))

    def add_recordings(self, paths: list[Path]) -> None:
        """Lay out more recordings in the session that is open."""
        page = self.work_page
        if page is None or not paths:
            return
        workspace = page.workspace
        has_lead = workspace.session.lead is not None

        def add(result: Any) -> None:
            from isophon.core.session import layout

            arrivals, wrong = result
            self._ended()
            there = {item.source.path for item in workspace.session.items}
            wrong += [f"{a.name} is in the session already." for a in arrivals if a.source.path in there]
            arrivals = [a for a in arrivals if a.source.path not in there]
            if arrivals:
                words = arrivals[0].name if len(arrivals) == 1 else f"{len(arrivals)} recordings"
                workspace.edit(f"add {words}", lambda s: layout.add(s, arrivals))
            if wrong or arrivals:
                tell = page.warn if wrong else page.tell
                tell(" ".join(wrong) or f"{len(arrivals)} added; Lay out (1) shows them.")

        self._begin("Reading what was dropped", lambda progress: _opening().arrivals_of(paths, has_lead, progress), add)

    def recover(self, path: Path) -> None:
        """Go on with the unsaved work of a journal."""
        self._begin("Opening what was not saved yet", lambda _progress: _opening().recover(path))

    def new_session(self) -> None:
        """Begin an empty session."""

        def work(_progress: Progress) -> Opened:
            from isophon.core.session import layout
            from isophon.core.session.history import History

            return History(layout.new_session("New session", [])), None, None, []

        self._begin("Beginning a new session", work)

    def close_session(self) -> None:
        """Leave the session that is open, with everything written down, and show the start page."""
        if self.work_page is None or self._job is not None or not self._may_leave():
            return
        self._leave_work_page()
        self._warned = False
        self.setWindowTitle("Isophon")
        self.stack.setCurrentIndex(0)
        self._show_lists()
        self.start.take_focus()

    def _may_leave(self) -> bool:
        """Whether nothing would be lost, or that was said once already."""
        if self.work_page is None or not self.work_page.workspace.keeper.at_risk or self._warned:
            return True
        self._warned = True
        self.work_page.warn(keyed(
            "The journal cannot be written, and this session is not saved: closing now loses what was done. Save it to "
            "another disk ({save_as}), or close once more."
        ))  # fmt: skip
        return False

    def open_demo(self) -> None:
        """Open the demo, made if it is not there: its lead and music first, the other parts while one looks."""

        def work(progress: Progress) -> Opened:
            from isophon.core.demo import build, cast

            return _opening().open_session(build.begin_demo(real(cast.demo_folder()), progress))

        self._begin("Making the demo: its lead is being synthesized", work)

    def _tour_demo(self) -> None:
        self._touring = True  # it begins once the demo is open
        self.open_demo()

    def _begin(self, words: str, work: Callable[[Progress], Any], done: Callable[[Any], None] | None = None) -> None:
        from isophon.app.model.jobs import Job

        if self._job is not None:
            return
        if done is None:
            if self.work_page is not None:
                self.work_page.rest_aside()
            self.stack.setCurrentIndex(0)
            self.message.clear()
            self.message.hide()
            self.start.show_work(words, 0.0)
        self._job = Job(work)
        self._job.progressed.connect(partial(self._progressed, words))
        self._job.done.connect(done or self._enter_work_page)
        self._job.failed.connect(self._failed)
        self._job.cancelled.connect(lambda: self._failed(""))
        self._job.start()

    def _progressed(self, words: str, fraction: float) -> None:
        if self._job is not None:
            self.start.show_work(words, fraction)

    def _enter_work_page(self, result: Opened) -> None:
        from isophon.app.model.workspace import Workspace
        from isophon.app.pages.work_page import WorkPage
        from isophon.app.sheets import FIRST

        if self.work_page is not None:
            self._leave_work_page()
        history, saved_as, continued, notes = result
        page = WorkPage(Workspace(history, saved_as, continued, self.background.workers(), FIRST),
                        self.background.player(), self.stack)  # fmt: skip
        page.left = self._state.how_left(saved_as)
        self._entering = self._entered(page, notes)
        self._next_turn.start()

    def _entered(self, page: WorkPage, notes: list[str]) -> Iterator[None]:
        """Build a page and show it, with turns of the window in between."""
        try:
            yield from page.building()
            page.views.restore(self._state.values)
            self.stack.addWidget(page)
            page.views.work.hide()  # shown in a turn of its own
            yield
            self.work_page = page
        finally:
            self._ended()
        page.open_asked.connect(self.ask_open)
        page.views.menu.new_asked.connect(self.new_session)
        page.views.menu.close_asked.connect(self.close_session)
        page.views.menu.quit_asked.connect(self.close)
        page.views.menu.path_chosen.connect(self.open_path)
        page.add_asked.connect(self.add_recordings)
        page.title_changed.connect(self._show_title)
        self.stack.setCurrentWidget(page)
        page.setFocus()
        self._show_title()
        page.warn_of_the_session()
        if page.workspace.keeper.is_copy:
            notes = [*notes, "This session is open in another window; here is a copy, to be saved under another name."]
        if notes:
            page.tell(" ".join(notes))
        views = (page.views.trace, page.views.skyline, page.views.lens, page.views.sheets)
        for view in views:
            view.setUpdatesEnabled(False)
        yield
        page.views.work.show()
        for view in views:  # each first picture in a turn of its own
            yield
            view.setUpdatesEnabled(True)
        if self._touring:
            page.tour.begin()
        self._touring = False

    def _go_on_entering(self) -> None:
        if next(self._entering, self) is self:
            self._next_turn.stop()

    def _leave_work_page(self) -> None:
        page, self.work_page = self.work_page, None
        if page is None:
            return
        self._state.values |= page.views.state()
        if path := page.workspace.keeper.saved_as:
            self._state.session_left(path, page.remembered())
        page.shut()
        self.stack.removeWidget(page)
        page.deleteLater()

    def _failed(self, why: str) -> None:
        """Say why, and go back to what was open."""
        self._touring = False
        self._ended()
        if self.work_page is not None:
            self.stack.setCurrentWidget(self.work_page)
        self.say_error(why)

    def say_error(self, words: str) -> None:
        """Say what went wrong, on the page that is open; empty: nothing did."""
        self.message.setText(tr(words))
        self.message.setVisible(bool(words) and self.work_page is None)
        if words and self.work_page is not None:
            self.work_page.warn(words)

    def _ended(self) -> None:
        self._job = None
        self.start.show_work("", None)

    # what is shown and kept

    def _show_title(self) -> None:
        if self.work_page is None:
            return
        keeper = self.work_page.workspace.keeper
        self.setWindowTitle(f"{keeper.session.name} — Isophon")
        if keeper.saved_as and not keeper.unsaved:
            self._state.session_saved(keeper.saved_as)

    def _show_keys(self) -> None:
        from isophon.app.pages.keys_page import KeysPage

        KeysPage(self).open()

    def _show_help(self) -> None:
        from isophon.app.pages.help_page import HelpPage

        HelpPage("", self).show()

    def _show_preferences(self) -> None:
        from isophon.app.pages.preferences_page import PreferencesPage

        PreferencesPage(self).show()

    def _show_lists(self) -> None:
        from isophon.app.model.state import recent_sessions, unsaved_work

        recent = [(path, self._state.how_left(path)) for path in recent_sessions()]
        self.start.show_lists(unsaved_work(), [(path, left.about if left else "") for path, left in recent])

    # dropping and closing

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        if paths := [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]:
            self.open_paths(paths)

    def leave(self) -> None:
        """Close without asking back."""
        self._warned = True
        self.close()

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        if self._job is not None:
            self._job.cancel()
            self._job.wait()
        for _ in self._entering:  # a page that is half built cannot be left
            pass
        if self.work_page is not None:
            self._leave_work_page()
        self.background.close()
        self._state.keep(self)
        event.accept()
