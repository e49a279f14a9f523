"""Preferences: how the program looks and works, whatever is open, and what it keeps on this disk."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QPushButton, QWidget

from isophon.app import theme
from isophon.app.model.appearance import LOOKS, appearance
from isophon.app.model.jobs import Job
from isophon.app.model.preferences import MOST_WORKERS, TYPE_SIZES, prefer, preferences
from isophon.app.pages.keys_page import KeysPage
from isophon.app.translation import LANGUAGES, tr, tr_all
from isophon.app.views.folder_choice import FolderChoice
from isophon.app.views.keyboard import Choice
from isophon.app.views.labels import Label
from isophon.app.views.made import grid, make_column, make_row, switch
from isophon.core.errors import IsophonError
from isophon.core.takes import cache

_NEXT_START = "from the next start on"
_SAVES = {0: "Never (every step is kept anyway)", 1: "Every minute", 5: "Every 5 minutes", 15: "Every 15 minutes"}
_ROOMS_GB = (1, 2, 4, 8, 16, 32, 64)
_WIDE, _ACROSS, _DOWN = 560, 16, 12


class PreferencesPage(QDialog):
    """Each choice acts at once, or says when it does.

    ``choose_output()`` opens what the output is chosen in; None where no session is open that could play.
    """

    def __init__(self, parent: QWidget | None = None, choose_output: Callable[[], object] | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Preferences"))
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setFixedWidth(theme.u(_WIDE))
        self._job: Job | None = None
        now = preferences()
        self.look = _choice("Look", LOOKS.values(), list(LOOKS).index(appearance().look))
        self.look.activated.connect(lambda row: appearance().choose(list(LOOKS)[row]))
        self.type_size = _choice("Type", TYPE_SIZES.values(), list(TYPE_SIZES).index(now.type_size))
        self.type_size.activated.connect(lambda row: self._prefer(type_size=list(TYPE_SIZES)[row]))
        self.language = _choice("Language", LANGUAGES.values(), list(LANGUAGES).index(now.language))
        self.language.activated.connect(lambda row: self._prefer(language=list(LANGUAGES)[row]))
        counts = ["As many as suit this machine", *map(str, range(1, MOST_WORKERS + 1))]
        self.workers = _choice("Processes that analyse and hand over", counts, now.workers)
        self.workers.activated.connect(lambda row: self._prefer(workers=row))
        self.motion = switch(tr("Views glide"))
        self.motion.setChecked(now.motion)
        self.motion.setToolTip("Map and skyline glide to where they are going, where the desktop wants motion at all")
        self.motion.toggled.connect(lambda on: self._prefer(motion=on))
        self.save = _choice("Save by itself", _SAVES.values(), list(_SAVES).index(_nearest(now.save_every_min, _SAVES)))
        self.save.activated.connect(lambda row: self._prefer(save_every_min=list(_SAVES)[row]))
        self.recordings = FolderChoice("Recordings", now.recordings, "where it was last")
        self.recordings.chosen.connect(lambda path: self._prefer(recordings=path))
        self.stems = FolderChoice("Stems", now.stems, "“cleaned” beside the recordings")
        self.stems.chosen.connect(lambda path: self._prefer(stems=path))
        self.keys = QPushButton(tr("Change keys…"))
        self.keys.setToolTip("All keys on one page; a click on one changes it")
        self.look.setToolTip("Light, dark, or as the desktop is")
        self.type_size.setToolTip("How large words and controls are")
        self.language.setToolTip("The language of the window; the command line and files stay English")
        self.workers.setToolTip("More are faster where the machine has the cores and the memory")
        self.save.setToolTip("Save a session that has a file every few minutes")
        self.keys.clicked.connect(lambda: KeysPage(self).open())
        self.output = QPushButton(tr("Choose the output…"))
        self.output.setToolTip("Device, rate, block, volume and limiter, as at the right of the transport")
        self.output.setEnabled(choose_output is not None)
        if choose_output is not None:
            self.output.clicked.connect(self.accept)
            self.output.clicked.connect(choose_output)
        self.room = _choice("Room for measurements", (f"up to {gb} GB" for gb in _ROOMS_GB),
                            _ROOMS_GB.index(_nearest(now.measurements_gb, _ROOMS_GB)))  # fmt: skip
        self.room.setToolTip("What was used longest ago is deleted first, and measured again where it is needed")
        self.room.activated.connect(lambda row: self._prefer(measurements_gb=_ROOMS_GB[row]))
        self.taken = Label("", objectName="soft")
        self.clear = QPushButton(tr("Delete what was measured"))
        self.clear.setToolTip("Recordings are measured again when they are opened; sessions and recordings stay")
        self.clear.clicked.connect(partial(self._work, _cleared))
        self.trouble = Label("", objectName="soft", wordWrap=True)
        rows = grid(None, _ACROSS, _DOWN)
        listed: tuple[tuple[str, QWidget, str], ...] = (
            ("Look", self.look, ""), ("Type", self.type_size, _NEXT_START), ("Language", self.language, _NEXT_START),
            ("Motion", self.motion, ""),
            ("Keys", self.keys, ""), ("Output", self.output, "" if choose_output else "once a session is open"),
            ("Save by itself", self.save, "a session that has a file"),
            ("Recordings in", self.recordings, ""), ("Stems to", self.stems, ""),
            ("Processes", self.workers, _NEXT_START), ("Measurements", self.room, _NEXT_START),
            ("", self.clear, ""),
        )  # fmt: skip
        for row, (name, control, says) in enumerate(listed):
            rows.addWidget(Label(tr(name)), row, 0)
            rows.addWidget(control, row, 1, 1, 2 if isinstance(control, FolderChoice) else 1)
            if says:
                rows.addWidget(Label(tr(says), objectName="soft"), row, 2)
        rows.addWidget(self.taken, len(listed), 1, 1, 2)
        place = Label(tr(f"They lie in {cache.folder()}"), objectName="soft", wordWrap=True)
        rows.addWidget(place, len(listed) + 1, 1, 1, 2)
        rows.setColumnStretch(2, 1)
        close = QPushButton(tr("Close"))
        close.clicked.connect(self.accept)
        foot = make_row()
        foot.addWidget(self.trouble, 1)
        foot.addWidget(close)
        column = make_column(self, between=16, around=(24, 20, 24, 16))
        column.addLayout(rows)
        column.addLayout(foot)
        self._work(_measured)

    def _prefer(self, **changed: object) -> None:
        """Change a preference; say where it could not be kept."""
        try:
            prefer(**changed)
            self.trouble.setText("")
        except IsophonError as error:
            self.trouble.setText(tr(f"{error}; what was chosen is not kept"))

    def _work(self, work: Callable[[Callable[[float], None]], int]) -> None:
        """Look how large the measurements are, or delete them, beside the window."""
        if self._job is not None:
            return
        self.clear.setEnabled(False)
        self._job = Job(work)
        self._job.done.connect(self._show_size)
        self._job.failed.connect(self._failed)
        self._job.start()

    def _failed(self, words: str) -> None:
        self._job = None
        self.trouble.setText(tr(words))
        self.clear.setEnabled(True)

    def _show_size(self, size: int) -> None:
        self._job = None
        self.taken.setText(tr(f"{size / 1e6:,.0f} MB" if size else "nothing is kept"))
        self.clear.setEnabled(size > 0)


def _nearest(value: int, among: Iterable[int]) -> int:
    return min(among, key=lambda one: abs(one - value))


def _measured(_progress: Callable[[float], None]) -> int:
    return cache.size()


def _cleared(_progress: Callable[[float], None]) -> int:
    cache.make_room(cache.folder(), 0)
    return cache.size()


def _choice(name: str, words: Iterable[str], row: int) -> Choice:
    box = Choice()
    box.setAccessibleName(tr(name))
    box.addItems(tr_all(list(words)))
    box.setCurrentIndex(row)
    return box
