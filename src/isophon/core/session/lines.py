"""A file of JSON lines that only grows: killed at any moment, all complete lines count."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import msgspec

from isophon.core.atomic import write_text
from isophon.core.errors import OutputError


class LineFile:
    """Writes such a file. What was begun and failed is cut off again; then nothing of it counts as written."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._size = 0

    def begin(self, lines: Sequence[dict[str, Any]]) -> None:
        """Write the whole file anew; OutputError if it cannot be written."""
        data = _encoded(lines)
        write_text(self.path, data.decode())
        self._size = len(data)

    def append(self, lines: Sequence[dict[str, Any]]) -> None:
        """Add lines, which are on the disk then; OutputError if they cannot be written."""
        data = _encoded(lines)
        try:
            with self.path.open("r+b") as file:
                file.truncate(self._size)  # what an earlier failure may have left
                file.seek(self._size)
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            with contextlib.suppress(OSError):
                os.truncate(self.path, self._size)
            raise OutputError(
                f"{self.path}: the journal cannot be written ({error.strerror}); save the session to a safe place"
            ) from error
        self._size += len(data)

    def move(self, path: Path) -> None:
        """Go on under another name; the old one stays in force where that cannot be."""
        if path != self.path:
            with contextlib.suppress(OSError):
                os.replace(self.path, path)
                self.path = path


def _encoded(lines: Sequence[dict[str, Any]]) -> bytes:
    return b"".join(msgspec.json.encode(line) + b"\n" for line in lines)
