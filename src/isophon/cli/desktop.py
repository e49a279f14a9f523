"""Isophon in the menus of a desktop: its entry, icons, file type and description, where the desktop looks for them.

The folders are those of the freedesktop.org specifications: desktop entry, icon theme, shared MIME info, AppStream.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from importlib import resources
from pathlib import Path

from isophon.core.atomic import atomic, write_text
from isophon.core.errors import OutputError

_RESERVED = set(" \t\n\"'\\><~|&;$*?#()`")  # by the Desktop Entry Specification
SIZES = (16, 22, 24, 32, 48, 64, 128, 256, 512)  # of the icon, pixels
_PLACES = {
    "isophon.desktop": "applications",
    "isophon.svg": "icons/hicolor/scalable/apps",
    "isophon-mime.xml": "mime/packages",
    "isophon.metainfo.xml": "metainfo",
}


def data_folder() -> Path:
    """Where this person's own menus and icons lie (``$XDG_DATA_HOME``)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def install(data: Path, command: str, tell: bool = True) -> list[Path]:
    """Put everything into a data folder; what was written.

    ``command``: the program that the menu starts, as a full path or a name that is found; ``tell``: let the desktop
    look at it now. OutputError: it cannot be written.
    """
    written = []
    for name, place in _PLACES.items():
        text = (resources.files("isophon") / "desktop" / name).read_text(encoding="utf-8")
        if name == "isophon.desktop":
            text = text.replace("Exec=isophon ", f"Exec={_quoted(command)} ")
            text = text.replace("TryExec=isophon\n", f"TryExec={command}\n")
        written.append(data / place / name)
        write_text(written[-1], text)
    written += _write_icons(data)
    if tell:
        _tell_the_desktop(data)
    return written


def remove(data: Path) -> list[Path]:
    """Take everything out of a data folder again; what was there."""
    there = [path for path in _all(data) if path.is_file()]
    for path in there:
        path.unlink()
    _tell_the_desktop(data)
    return there


def started_as() -> str:
    """The program that was called, as the menu is to call it."""
    called = os.environ.get("ISOPHON_CALLED") or shutil.which(sys.argv[0]) or "isophon"
    return called if Path(called).name == called else str(Path(called).absolute())


def _all(data: Path) -> list[Path]:
    return [*(data / place / name for name, place in _PLACES.items()), *(_icon(data, size) for size in SIZES)]


def _icon(data: Path, size: int) -> Path:
    return data / "icons" / "hicolor" / f"{size}x{size}" / "apps" / "isophon.png"


def _write_icons(data: Path) -> list[Path]:
    """The drawn icon at every size that a desktop asks for."""
    from PySide6.QtCore import QByteArray, Qt
    from PySide6.QtGui import QImage, QPainter
    from PySide6.QtSvg import QSvgRenderer

    drawing = (resources.files("isophon") / "desktop" / "isophon.svg").read_bytes()
    renderer = QSvgRenderer(QByteArray(drawing))
    for size in SIZES:
        image = QImage(size, size, QImage.Format.Format_ARGB32)
        image.fill(Qt.GlobalColor.transparent)
        painter = QPainter(image)
        renderer.render(painter)
        painter.end()
        path = _icon(data, size)
        with atomic(path, force=True) as target:
            if not image.save(str(target), "PNG"):  # type: ignore[call-overload]
                raise OutputError(f"{path}: could not be written; see whether the disk is full")
    return [_icon(data, size) for size in SIZES]


def _quoted(command: str) -> str:
    """A program as the Exec key of a desktop entry has it."""
    if not set(command) & _RESERVED:
        return command
    escaped = "".join("\\" + sign if sign in '"`$\\' else sign for sign in command)
    return '"' + escaped.replace("\\", "\\\\") + '"'  # quoted first, then as any value of an entry


def _tell_the_desktop(data: Path) -> None:
    """Let the desktop read anew what is there, where it has programs for that."""
    for program, folder in (("update-mime-database", "mime"), ("update-desktop-database", "applications")):
        if (found := shutil.which(program)) and (data / folder).is_dir():
            subprocess.run([found, str(data / folder)], check=False, capture_output=True, timeout=60)
