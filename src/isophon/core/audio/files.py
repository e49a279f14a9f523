"""Recordings in: what a file is, and its samples, read a block at a time.

libsndfile (through soundfile) decodes them. It accepts files that end before their header says they do, which
for a vocal take means lost singing: those are found by :mod:`.containers`, or when fewer frames
come than were promised.
Samples are float32, shape ``(channels, frames)``; every PCM depth up to 24 bit
fits into it exactly.
"""

from __future__ import annotations

import os
import stat
import tempfile
import threading
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Protocol

import numpy as np
import soundfile as sf

from isophon.core.audio.containers import damage_of, time_reference
from isophon.core.audio.mp3 import Mp3File
from isophon.core.errors import InputError, OutputError
from isophon.core.ranges import LONGEST_S, RATES_HZ

BLOCK = 1 << 18  # frames read at once
MAX_CHANNELS = 2  # of a recorded voice; a file with more is split first
LOUDEST = 1_000.0  # 60 dB over full scale; no recording holds more, one such sample would drown all others
ENDINGS = (".wav", ".wave", ".rf64", ".w64", ".aif", ".aiff", ".aifc", ".flac", ".ogg", ".oga")

_CONTAINERS = ("WAV", "WAVEX", "RF64", "W64", "AIFF", "CAF", "AU", "FLAC", "OGG", "MP3")
_CODECS = ("VORBIS", "OPUS", "ULAW", "ALAW", "MPEG_LAYER_I", "MPEG_LAYER_II", "MPEG_LAYER_III")
# bits of a sample
_DEPTH = {"PCM_U8": 8, "PCM_S8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32, "FLOAT": 32, "DOUBLE": 64}


class Readable(Protocol):
    """What has samples in order: a recording, or one without its leak."""

    channels: int
    frames: int

    def blocks(self, size: int = ...) -> Iterable[np.ndarray]:
        """All of them, float32 ``(channels, up to size)`` each."""


def all_samples(source: Readable) -> np.ndarray:
    """All samples, checked as :meth:`Recording.blocks` does, and in memory only once.

    Parameters
    ----------
    source : a recording.

    Returns
    -------
    float32 ``(channels, frames)``.

    Raises
    ------
    InputError
        As :meth:`Recording.blocks`.
    """
    out = np.empty((source.channels, source.frames), np.float32)
    at = 0
    for block in source.blocks():
        out[:, at : at + block.shape[1]] = block
        at += block.shape[1]
    return out


class Recording:
    """One audio file, opened for reading. Never written to.

    Attributes: ``path``, ``sample_rate`` (Hz), ``channels``, ``frames``,
    ``container`` (libsndfile's name for it), ``depth`` (bits of the stored samples, 0 for lossy formats).
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
        self.container = str(self._file.format)
        self.depth = _DEPTH.get(self._file.subtype, 0)
        self._at = 0
        self._stamp = _stamp_of(self.path)
        self._sums: list[int] | None = None  # over the samples of each channel
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
        """The complete file in order.

        Parameters
        ----------
        size : frames in a block, at most.

        Returns
        -------
        float32 ``(channels, up to size)`` each.

        Raises
        ------
        InputError
            For samples that are not numbers, or far louder than any sound; and at the end, where the file is not any
            more what it was when it was opened, or read otherwise before.
        """
        sums = [0] * self.channels
        for start in range(0, self.frames, size):
            block = self._read(start, min(size, self.frames - start))
            if not (block.max() <= LOUDEST and block.min() >= -LOUDEST):
                self._refuse(block, start)
            sums = [zlib.crc32(channel.data, one) for channel, one in zip(block, sums, strict=True)]
            yield block
        if _stamp_of(self.path) != self._stamp or self._sums not in (None, sums):
            raise InputError(f"{self.path.name}: was changed while it was read, so nothing of it is kept; "
                             "wait until it is complete, then try again")  # fmt: skip
        self._sums = sums

    def _refuse(self, block: np.ndarray, start: int) -> None:
        bad = ~(np.abs(block) <= LOUDEST).all(axis=0)
        at = int(np.argmax(bad))
        what = "far over full scale" if np.isfinite(block[:, at]).all() else "that are not numbers"
        raise InputError(
            f"{self.path.name}: has samples {what} near {(start + at) / self.sample_rate:.1f} s; "
            "export it again from its source"
        )

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
            if self._at < 0:
                self._file.close()
                self._file = _open(self.path)
                if (self._file.samplerate, self._file.channels) != (self.sample_rate, self.channels):
                    raise InputError(f"{self.path.name}: is another recording now; open it again")
            try:
                if self._at != start:
                    self._file.seek(start)
                data = self._file.read(frames, dtype="float32", always_2d=True)
            except (sf.LibsndfileError, RuntimeError) as error:
                self._at = -1  # the decoder may be of no use any more
                raise InputError(
                    f"{self.path.name}: cannot be decoded near {start / self.sample_rate:.1f} s ({error}); "
                    "copy it again from its source"
                ) from error
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
            self._decoded = self._decode()
        return np.ascontiguousarray(self._decoded[start : start + frames].T)

    def _decode(self) -> np.ndarray:
        whole = _store(self.path, self.frames, self.channels)
        try:
            self._file.seek(0)
            for at in range(0, self.frames, BLOCK):
                piece = self._file.read(min(BLOCK, self.frames - at), dtype="float32", always_2d=True)
                if len(piece) != min(BLOCK, self.frames - at):
                    raise InputError(_cut_short(self.path, "fewer samples come than it promises"))
                whole[at : at + len(piece)] = piece
        except (sf.LibsndfileError, RuntimeError) as error:
            raise InputError(f"{self.path.name}: cannot be decoded ({error}); copy it again from its source") from error
        return whole


def _open(path: Path) -> sf.SoundFile | Mp3File:
    try:
        status = path.stat()
    except (FileNotFoundError, NotADirectoryError, ValueError) as error:
        raise InputError(f"{path.name}: no such file; check the name and the folder ({path.parent})") from error
    except OSError as error:
        raise InputError(f"{path.name}: cannot be read ({error.strerror}); check the name and the folder "
                         f"({path.parent})") from error  # fmt: skip
    try:
        if stat.S_ISDIR(status.st_mode):
            raise InputError(f"{path.name}: is a folder; name the recording inside it")
        if not stat.S_ISREG(status.st_mode):
            raise InputError(f"{path.name}: is no regular file; name the recording itself")
        if status.st_size == 0:
            raise InputError(f"{path.name}: is empty (0 bytes); copy it again from its source")
        damage = damage_of(path)
        if damage:
            raise InputError(_cut_short(path, damage))
        file = sf.SoundFile(os.fsencode(path)) if _has_own_head(path) else Mp3File(path)
    except OSError as error:
        raise InputError(f"{path.name}: cannot be read ({error.strerror or error}); check its permissions") from error
    except (sf.LibsndfileError, RuntimeError, TypeError, ValueError) as error:
        raise InputError(f"{path.name}: is not audio that can be read here; use WAV, AIFF, FLAC or Ogg") from error
    if file.format not in _CONTAINERS or (file.subtype not in _DEPTH and file.subtype not in _CODECS):
        what = f"{file.format}, {file.subtype}"
        file.close()
        raise InputError(f"{path.name}: holds sound in a way not read here ({what}); use WAV, AIFF, FLAC or Ogg")
    return file


def _stamp_of(path: Path) -> tuple[int, int, int] | None:
    """What tells whether a file is still the same; None where it is not there."""
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_ino, status.st_size, status.st_mtime_ns


def _has_own_head(path: Path) -> bool:
    """Whether a file begins as WAV, AIFF, FLAC and so on do; what does not may be MP3."""
    with path.open("rb") as file:
        return file.read(4) in (b"RIFF", b"RF64", b"BW64", b"riff", b"FORM", b"caff", b".snd", b"fLaC", b"OggS")


def _cut_short(path: Path, how: str) -> str:
    return f"{path.name}: is cut short or damaged ({how}); copy it again from its source"


def _store(path: Path, frames: int, channels: int) -> np.ndarray:
    """Room for decoded samples ``(frames, channels)`` in a nameless temporary file, all of it there from the start."""
    try:
        with tempfile.TemporaryFile(prefix="isophon-") as store:
            os.posix_fallocate(store.fileno(), 0, 4 * frames * channels)  # a mapped page without room would kill us
            return np.memmap(store, np.float32, "r+", shape=(frames, channels))
    except OSError as error:
        raise OutputError(f"{path.name}: cannot be decoded, {tempfile.gettempdir()} has no room for it "
                          f"({error.strerror}); make room there, or use WAV, AIFF or FLAC") from error  # fmt: skip


def _check_shape(recording: Recording) -> None:
    name = recording.path.name
    if recording.frames <= 0:
        raise InputError(f"{name}: holds no samples; export it again from its source")
    low, high = RATES_HZ
    if not low <= recording.sample_rate <= high:
        raise InputError(f"{name}: has a sample rate of {recording.sample_rate} Hz; use one from {low} to {high} Hz")
    if recording.duration > LONGEST_S:
        raise InputError(f"{name}: would last {recording.duration / 3600:.0f} hours; check that it is complete")
    if recording.channels > MAX_CHANNELS:
        raise InputError(f"{name}: has {recording.channels} channels; split it into mono or stereo files")
