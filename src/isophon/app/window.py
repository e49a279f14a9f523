"""The window: start page or workroom, opening files in the background, recent sessions."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFileDialog, QLabel, QMainWindow, QStackedWidget, QVBoxLayout, QWidget

from isophon.app import theme
from isophon.app.start_page import StartPage

_SESSION_ENDING = ".isophon"
_RECENT = 8


class Window(QMainWindow):
    """Numeric modules are imported only once something is opened, so that the first picture comes at once."""

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Isophon")
        self.setWindowIcon(theme.app_icon())
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.start = StartPage()
        self.workroom = None
        self._job = None
        self.message = QLabel("", objectName="message", wordWrap=True)
        self.message.hide()
        first = QWidget(objectName="page")
        column = QVBoxLayout(first)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.message)
        column.addWidget(self.start, 1)
        self.stack = QStackedWidget()
        self.stack.addWidget(first)
        self.setCentralWidget(self.stack)
        self.start.open_asked.connect(self.ask_open)
        self.start.demo_asked.connect(self.open_demo)
        self.start.path_chosen.connect(self.open_path)
        self.start.recover_asked.connect(self.recover)
        self.start.cancel_asked.connect(lambda: self._job and self._job.cancel())
        QTimer.singleShot(0, self._show_lists)

    # opening

    def ask_open(self) -> None:
        """Ask for a recording or a session."""
        kinds = "Recordings and sessions (*.isophon *.wav *.wave *.aif *.aiff *.flac *.ogg *.oga *.rf64)"
        name, _ = QFileDialog.getOpenFileName(self, "Open", "", kinds)
        if name:
            self.open_path(Path(name))

    def open_path(self, path: Path) -> None:
        """Open a session, with its history, or a recording, in the background."""
        path = Path(path).resolve()

        def work(progress):
            if path.suffix == _SESSION_ENDING:
                return self._open_session(path, progress)
            return self._open_recording(path, progress)

        self._begin(f"Opening {path.name}: surveying the voice", work)

    def recover(self, path: Path) -> None:
        """Go on with the unsaved work of a journal."""

        def work(progress):
            from isophon.core.session.journal import replay

            kept = replay(path)
            saved_as = Path(kept.saved_as) if kept.saved_as else None
            return kept.history, saved_as, self._take(kept.history.session, progress), path

        self._begin("Opening what was not saved yet", work)

    def open_demo(self) -> None:
        """Make the demo if it is not there, then open it."""

        def work(progress):
            from isophon.core.demo.build import demo_folder, make_demo

            path = make_demo(demo_folder(), lambda f: progress(0.6 * f)).resolve()
            return self._open_session(path, lambda f: progress(0.6 + 0.4 * f))

        self._begin("Making the demo: a singer is being synthesized", work)

    def _open_session(self, path: Path, progress):
        from isophon.app.state import kept_history
        from isophon.core.session import file

        history = kept_history(file.load(path), path)
        return history, path, self._take(history.session, progress), None

    @staticmethod
    def _open_recording(path: Path, progress):
        from isophon.core.session import edits
        from isophon.core.session.history import History
        from isophon.core.take import open_take

        take = open_take(path, progress)
        shape = (take.recording.sample_rate, take.recording.channels, take.recording.frames)
        return History(edits.new_session(path.stem, path, *shape)), None, take, None

    @staticmethod
    def _take(session, progress):
        from isophon.core.session import edits
        from isophon.core.take import open_take

        source = session.parts[0].source
        take = open_take(Path(source.path), progress)
        edits.check_source(source, take.recording)
        return take

    def _begin(self, words: str, work) -> None:
        from isophon.app.jobs import Job

        if self._job is not None:
            return
        if self.workroom is not None:
            self.workroom.rest_aside()
        self.stack.setCurrentIndex(0)
        self.message.clear()
        self.message.hide()
        self.start.show_work(words, 0.0)
        self._job = Job(work)
        self._job.progressed.connect(lambda f: self._job and self.start.show_work(words, f))
        self._job.done.connect(self._enter_workroom)
        self._job.failed.connect(self._failed)
        self._job.cancelled.connect(lambda: self._failed(""))
        self._job.start()

    def _enter_workroom(self, result) -> None:
        from isophon.app.desk import Desk
        from isophon.app.workroom import Workroom

        self._ended()
        if self.workroom is not None:
            self._leave_workroom()
        desk = Desk(*result)
        self.workroom = Workroom(desk)
        self.workroom.open_asked.connect(self.ask_open)
        self.workroom.title_changed.connect(self._show_title)
        self.stack.addWidget(self.workroom)
        self.stack.setCurrentWidget(self.workroom)
        self.workroom.setFocus()
        self._show_title()
        self.workroom.warn_of_the_take()

    def _leave_workroom(self) -> None:
        self.workroom.shut()
        self.stack.removeWidget(self.workroom)
        self.workroom.deleteLater()
        self.workroom = None

    def _failed(self, why: str) -> None:
        """Say why, and go back to what was open."""
        self._ended()
        self.message.setText(why)
        self.message.setVisible(bool(why))
        if self.workroom is not None:
            self.stack.setCurrentWidget(self.workroom)
            if why:
                self.workroom.tell(why)

    def _ended(self) -> None:
        self._job = None
        self.start.show_work("", None)

    # what is shown and kept

    def _show_title(self) -> None:
        desk = self.workroom.desk
        self.setWindowTitle(f"{desk.session.name} — Isophon")
        if desk.saved_as and not desk.unsaved:
            self._remember(desk.saved_as)

    def _show_lists(self) -> None:
        from isophon.app.state import recent_sessions, unsaved_work

        self.start.show_lists(unsaved_work(), recent_sessions())

    def _remember(self, path: Path) -> None:
        from isophon.app.state import recent_sessions, state_folder
        from isophon.core.audio.writing import write_text
        from isophon.core.errors import IsophonError

        paths = [str(p) for p in dict.fromkeys([path, *recent_sessions()])][:_RECENT]
        with contextlib.suppress(IsophonError):  # a list that cannot be kept harms no work
            write_text(state_folder() / "recent.json", json.dumps(paths))

    # dropping and closing

    def dragEnterEvent(self, event) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            self.open_path(paths[0])

    def closeEvent(self, event) -> None:
        if self._job is not None:
            self._job.cancel()
            self._job.wait()
        if self.workroom is not None:
            self.workroom.shut()
        event.accept()
