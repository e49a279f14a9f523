"""Recordings in: what a file is, and its samples, read a block at a time.

libsndfile (through soundfile) decodes WAV, WAVE_FORMAT_EXTENSIBLE, RF64, AIFF,
FLAC and Ogg. It accepts files that end before their header says they do, which
for a vocal take means lost singing: those are found by :mod:`.containers`.
Samples are float32, shape ``(channels, frames)``; every PCM depth up to 24 bit
fits into it exactly.
"""

from __future__ import annotations

import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import soundfile as sf

from isophon.core.audio.containers import missing_bytes, time_reference
from isophon.core.errors import InputError

BLOCK = 1 << 18
MIN_RATE, MAX_RATE = 8_000, 192_000
MAX_CHANNELS = 2
ENDINGS = (".wav", ".wave", ".rf64", ".w64", ".aif", ".aiff", ".aifc", ".flac", ".ogg", ".oga")

_DEPTH = {"PCM_U8": 8, "PCM_S8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32, "FLOAT": 32, "DOUBLE": 64}


class Recording:
    """One audio file, opened for reading. Never written to.

    Attributes: ``path``, ``sample_rate`` (Hz), ``channels``, ``frames``,
    ``depth`` (bits of the stored samples, 0 for lossy formats).
    Reads are safe from several threads.

    Raises
    ------
    InputError
        If the file is missing, empty, not audio, cut short, of an unsupported
        rate or channel count.
    """

    def __init__(self, path: str | Path) -> None:
        self.path = Path(path)
        self._lock = threading.Lock()
        self._file = _open(self.path)
        self.sample_rate = int(self._file.samplerate)
        self.channels = int(self._file.channels)
        self.frames = int(self._file.frames)
        self.depth = _DEPTH.get(self._file.subtype, 0)
        self._at = 0
        self._decoded: np.ndarray | None = None
        _check_shape(self)

    @property
    def time_reference(self) -> int | None:
        """Its first frame on the recorder's clock (EBU Tech 3285), frames since midnight; None where untold."""
        return time_reference(self.path)

    @property
    def duration(self) -> float:
        """Length in seconds."""
        return self.frames / self.sample_rate

    def read(self, start: int, frames: int) -> np.ndarray:
        """Samples ``start`` to ``start + frames``, zeros outside of the file.

        Returns float32, shape ``(channels, frames)``.
        """
        out = np.zeros((self.channels, max(0, frames)), np.float32)
        first, last = max(0, start), min(self.frames, start + frames)
        if last > first:
            out[:, first - start : last - start] = self._read(first, last - first)
        return out

    def blocks(self, size: int = BLOCK) -> Iterator[np.ndarray]:
        """The whole file in order, in blocks of ``(channels, up to size)`` float32.

        Raises InputError on samples that are not numbers.
        """
        for start in range(0, self.frames, size):
            block = self._read(start, min(size, self.frames - start))
            numbers = np.isfinite(block).all(axis=0)
            if not numbers.all():
                where = (start + int(np.argmin(numbers))) / self.sample_rate
                raise InputError(
                    f"{self.path.name}: has samples that are not numbers near {where:.1f} s; "
                    "export it again from its source"
                )
            yield block

    def close(self) -> None:
        """Close the file; the recording cannot be read afterwards."""
        with self._lock:
            self._file.close()

    def __enter__(self) -> Recording:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _read(self, start: int, frames: int) -> np.ndarray:
        with self._lock:
            if self.depth == 0:
                return self._read_lossy(start, frames)
            try:
                if self._at != start:
                    self._file.seek(start)
                data = self._file.read(frames, dtype="float32", always_2d=True)
            except (sf.LibsndfileError, RuntimeError) as error:
                raise InputError(f"{self.path.name}: cannot be decoded near {start} ({error})") from error
            self._at = start + len(data)
        if len(data) != frames:
            raise InputError(_cut_short(self.path, "its samples end early"))
        return np.ascontiguousarray(data.T)

    def _read_lossy(self, start: int, frames: int) -> np.ndarray:
        """From the whole take decoded once, in order, to a nameless temporary file.

        Seeking in Ogg Vorbis lands beside its target now and then; the same span
        must always be the same samples.
        """
        if self._decoded is None:
            with tempfile.TemporaryFile(prefix="isophon-") as store:
                store.truncate(4 * self.frames * self.channels)
                whole = np.memmap(store, np.float32, "r+", shape=(self.frames, self.channels))
            self._file.seek(0)
            for at in range(0, self.frames, BLOCK):
                piece = self._file.read(min(BLOCK, self.frames - at), dtype="float32", always_2d=True)
                if len(piece) != min(BLOCK, self.frames - at):
                    raise InputError(_cut_short(self.path, "its samples end early"))
                whole[at : at + len(piece)] = piece
            self._decoded = whole
        return np.ascontiguousarray(self._decoded[start : start + frames].T)


def _open(path: Path) -> sf.SoundFile:
    if not path.exists():
        raise InputError(f"{path.name}: no such file; check the name and the folder ({path.parent})")
    if path.is_dir():
        raise InputError(f"{path.name}: is a folder; name the recording inside it")
    try:
        if path.stat().st_size == 0:
            raise InputError(f"{path.name}: is empty (0 bytes); copy it again from its source")
        lost = missing_bytes(path)
        file = sf.SoundFile(path)
    except OSError as error:
        raise InputError(f"{path.name}: cannot be read ({error.strerror or error}); check its permissions") from error
    except (sf.LibsndfileError, RuntimeError, TypeError, ValueError) as error:
        raise InputError(f"{path.name}: is not audio that can be read here; use WAV, AIFF, FLAC or Ogg") from error
    if lost:
        file.close()
        raise InputError(_cut_short(path, f"{lost} bytes that its header promises are missing"))
    return file


def _cut_short(path: Path, how: str) -> str:
    return f"{path.name}: is cut short ({how}); copy it again from its source"


def _check_shape(recording: Recording) -> None:
    name = recording.path.name
    if recording.frames <= 0:
        raise InputError(f"{name}: holds no samples; export it again from its source")
    if not MIN_RATE <= recording.sample_rate <= MAX_RATE:
        raise InputError(f"{name}: has a sample rate of {recording.sample_rate} Hz; use one from 8000 to 192000 Hz")
    if recording.channels > MAX_CHANNELS:
        raise InputError(f"{name}: has {recording.channels} channels; split it into mono or stereo files")
