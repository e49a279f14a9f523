"""Dialogs that ask for a file or folder, drawn like the rest of the window on every desktop."""

import os
from pathlib import Path

from PySide6.QtCore import QDir, QStandardPaths, QUrl
from PySide6.QtWidgets import QFileDialog, QHeaderView, QLineEdit, QSplitter, QTreeView, QWidget

from isophon.app import theme
from isophon.app.model.preferences import preferences
from isophon.app.translation import tr

SOUND_FILES = "*.wav *.wave *.aif *.aiff *.flac *.ogg *.oga *.rf64 *.mp3"
_PLACES = (
    QStandardPaths.StandardLocation.HomeLocation,
    QStandardPaths.StandardLocation.DesktopLocation,
    QStandardPaths.StandardLocation.DocumentsLocation,
    QStandardPaths.StandardLocation.MusicLocation,
)
_SIZE = (860, 540)
_PLACES_WIDTH = 150


class FileDialog(QFileDialog):
    """Qt's own file dialog, with columns as wide as what stands in them and the usual folders at the left.

    Parameters
    ----------
    parent : QWidget
        Over which it opens.
    title : str
        What is asked.
    start : Path or None
        A folder, or a file that is proposed; None where it was used last, at first the preferred one.
    kinds : str
        Which files are shown, as ``"Name (*.a *.b)"``.
    """

    ending = ""  # of what is saved
    _last: Path | None = None  # the folder in which something was chosen last

    def __init__(self, parent: QWidget, title: str, start: Path | None, kinds: str = "") -> None:
        start = start or self._last or Path(preferences().recordings or QDir.homePath())
        folder = start if os.path.isdir(start) else start.parent
        super().__init__(parent, title, str(folder), kinds)
        self.setOption(QFileDialog.Option.DontUseNativeDialog)
        self.setSidebarUrls([QUrl.fromLocalFile(path) for path in self._places(folder)])
        self.resize(*map(theme.u, _SIZE))
        for splitter in self.findChildren(QSplitter):
            splitter.setSizes([theme.u(_PLACES_WIDTH), theme.u(_SIZE[0] - _PLACES_WIDTH)])
        for view in self.findChildren(QTreeView):
            view.setIndentation(0)
            view.header().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            view.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)

    @staticmethod
    def _places(folder: Path) -> list[str]:
        usual = [QStandardPaths.writableLocation(place) for place in _PLACES]
        return list(dict.fromkeys(path for path in (*usual, str(folder)) if os.path.isdir(path)))

    def accept(self) -> None:
        """Choose what is selected or typed; with its ending, so that a file of this name is asked about before."""
        field = self.findChild(QLineEdit)
        if field is not None and field.text() and not field.text().endswith(self.ending):
            field.setText(field.text() + self.ending)
        super().accept()

    def chosen(self) -> list[Path]:
        """Ask; empty where it was cancelled."""
        given = self.exec() == QFileDialog.DialogCode.Accepted
        paths = [Path(name) for name in self.selectedFiles()] if given else []
        self.deleteLater()
        if paths:
            FileDialog._last = paths[0] if os.path.isdir(paths[0]) else paths[0].parent
        return paths


def files_to_open(parent: QWidget, title: str, start: Path | None, kinds: str) -> list[Path]:
    """Ask for files that are there; empty where it was cancelled. Parameters as :class:`FileDialog` has them."""
    dialog = FileDialog(parent, tr(title), start, kinds)
    dialog.setFileMode(QFileDialog.FileMode.ExistingFiles)
    return dialog.chosen()


def file_to_open(parent: QWidget, title: str, start: Path | None, kinds: str) -> Path | None:
    """Ask for one file that is there; None where it was cancelled."""
    dialog = FileDialog(parent, tr(title), start, kinds)
    dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
    return next(iter(dialog.chosen()), None)


def folder_to_use(parent: QWidget, title: str, start: Path | None) -> Path | None:
    """Ask for a folder; None where it was cancelled."""
    dialog = FileDialog(parent, tr(title), start)
    dialog.setFileMode(QFileDialog.FileMode.Directory)
    dialog.setOption(QFileDialog.Option.ShowDirsOnly)
    return next(iter(dialog.chosen()), None)


def file_to_save(parent: QWidget, title: str, start: Path, kinds: str, ending: str) -> Path | None:
    """Ask for a name to save under, with its ending; a file that is there already is asked about before."""
    dialog = FileDialog(parent, tr(title), start, kinds)
    dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
    dialog.ending = ending
    dialog.selectFile(start.name)
    return next(iter(dialog.chosen()), None)
