"""MP3 files, decoded by a process of their own: the decoder writes its doubts to standard error by itself.

``python -m isophon.core.audio.mp3 FILE [samples]`` tells in one line of JSON what a file is and, where asked, writes
all its samples after that, float32, one frame after another.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path
from typing import BinaryIO, cast

import msgspec
import numpy as np
import soundfile as sf

_SRC = Path(__file__).resolve().parents[3]
_BLOCK = 1 << 16  # frames decoded at once


class _Header(msgspec.Struct, frozen=True):
    """What a file is; ``trouble``: why it cannot be read, '' where it can."""

    format: str = ""
    subtype: str = ""
    samplerate: int = 0
    channels: int = 0
    frames: int = 0
    trouble: str = ""


class Mp3File:
    """A file as :class:`soundfile.SoundFile` has it, read in order only.

    Raises RuntimeError where it cannot be read, OSError where no process can be started.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._child: subprocess.Popen[bytes] | None = None
        with self._started() as child:
            header = _header_of(child)
        self.format, self.subtype = header.format, header.subtype
        self.samplerate, self.channels, self.frames = header.samplerate, header.channels, header.frames

    def seek(self, frame: int) -> int:
        """Go to the beginning, the only place that there is."""
        if frame != 0:
            raise RuntimeError("is read in order only")
        self.close()
        self._child = self._started("samples")
        _header_of(self._child)
        return 0

    def read(self, frames: int, dtype: str = "float32", always_2d: bool = True) -> np.ndarray:  # noqa: ARG002 (as soundfile has it)
        """The next samples, float32 ``(up to frames, channels)``."""
        if self._child is None:
            self.seek(0)
        child = cast("subprocess.Popen[bytes]", self._child)
        data = cast("BinaryIO", child.stdout).read(4 * self.channels * frames)
        complete = len(data) // (4 * self.channels) * self.channels
        return np.frombuffer(data, np.float32, complete).reshape(-1, self.channels)

    def close(self) -> None:
        """End the process that decodes."""
        if self._child is not None:
            self._child.kill()
            self._child.__exit__(None, None, None)
            self._child = None

    def _started(self, *what: str) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "isophon.core.audio.mp3", os.fspath(self._path), *what]
        environment = {**os.environ, "PYTHONPATH": str(_SRC)}
        return subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                                env=environment)  # fmt: skip


def _header_of(child: subprocess.Popen[bytes]) -> _Header:
    try:
        header = msgspec.json.decode(cast("BinaryIO", child.stdout).readline(), type=_Header)
    except msgspec.MsgspecError as error:
        raise RuntimeError("the decoder ended") from error
    if header.trouble:
        raise RuntimeError(header.trouble)
    return header


def main() -> None:
    """Be the process that decodes."""
    out = sys.stdout.buffer
    try:
        file = sf.SoundFile(os.fsencode(sys.argv[1]))
    except (sf.LibsndfileError, OSError, RuntimeError, TypeError, ValueError) as error:
        out.write(msgspec.json.encode(_Header(trouble=str(error) or "is no audio")) + b"\n")
        return
    with file:
        header = _Header(file.format, file.subtype, file.samplerate, file.channels, file.frames)
        out.write(msgspec.json.encode(header) + b"\n")
        while sys.argv[2:] and len(block := file.read(_BLOCK, dtype="float32", always_2d=True)):
            out.write(block.tobytes())


if __name__ == "__main__":
    main()
