"""Stems out: completely or not at all, at a chosen depth.

A file is written beside its final name and moved there when it is complete, so
that a full disk, an error or an interrupted run leaves nothing half-written.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import re
import tempfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

import numpy as np
import soundfile as sf

from isophon.core.audio.chunks import append, undate_peak
from isophon.core.errors import CallError, ExistsError, OutputError

FORMATS = {"wav": ".wav", "flac": ".flac", "aiff": ".aiff"}
DEPTHS = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}
_RF64_FROM = 4_000_000_000  # a RIFF chunk counts its bytes with 32 bits
_SEED = 20_482  # of the dither, so that the same session writes the same file
_READ_FRAMES = 1 << 17  # read at once where a written file is checked
_PREFIX, _SUFFIX = ".isophon-", ".part"
_OURS = re.compile(r"\.isophon-[a-z0-9_]{8}\.part(\.\w{1,8})?")


def check_target(fmt: str, depth: str) -> None:
    """Raise CallError for a format and depth that do not go together."""
    if fmt not in FORMATS:
        raise CallError(f"format '{fmt}' is not known; use one of {', '.join(FORMATS)}")
    if depth not in DEPTHS:
        raise CallError(f"depth '{depth}' is not known; use one of {', '.join(DEPTHS)}")
    if fmt == "flac" and depth == "32f":
        raise CallError("FLAC holds no 32-bit float samples; use 24 bit, or WAV")


@contextlib.contextmanager
def atomic(path: Path, force: bool) -> Iterator[Path]:
    """A temporary path beside ``path`` that takes its place if the block succeeds.

    Raises OutputError if ``path`` exists and ``force`` is false, or on any
    failure to write; the temporary file is then gone and ``path`` untouched.
    """
    temporary: Path | None = None
    handle: int | None = None
    try:
        if "\0" in str(path):
            raise OSError(errno.EINVAL, "no name holds a null character")
        if path.exists() and not force:
            raise ExistsError(f"{path}: exists already and was kept; use another folder, or allow writing over it")
        path.parent.mkdir(parents=True, exist_ok=True)
        clear_left_over(path.parent, _OURS, Path.unlink)
        handle, name = tempfile.mkstemp(prefix=_PREFIX, suffix=_SUFFIX + path.suffix[:9], dir=path.parent)
        temporary = Path(name)
        fcntl.flock(handle, fcntl.LOCK_EX)  # whoever clears up sees that it is being written
        yield temporary
        os.fsync(handle)
        os.fchmod(handle, 0o666 & ~umask())
        os.replace(temporary, path)
        temporary = None
    except (OSError, sf.LibsndfileError) as error:
        what = getattr(error, "strerror", None) or _why_not(handle) or str(error)
        raise OutputError(f"{path}: cannot be written ({what}); nothing half-written was left") from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)
        if handle is not None:
            os.close(handle)


def _why_not(handle: int | None) -> str:
    """Why nothing more can be written to a file, in the system's words; libsndfile does not tell."""
    try:
        if handle is not None:
            os.pwrite(handle, bytes(1 << 16), os.fstat(handle).st_size)
    except OSError as error:
        return error.strerror or ""
    return ""


def write_text(path: Path, text: str, force: bool = True) -> None:
    """Write ``text`` as UTF-8 to ``path``, completely or not at all."""
    with atomic(path, force) as temporary:
        temporary.write_text(text, encoding="utf-8", errors="backslashreplace")


def write_stem(
    path: Path,
    blocks: Iterable[np.ndarray],
    sample_rate: int,
    channels: int,
    frames: int,
    *,
    fmt: str = "wav",
    depth: str = "24",
    force: bool = False,
    may_clip: bool = True,
    chunks: bytes = b"",
) -> int:
    """Write ``blocks`` of float32 ``(channels, n)`` as one audio file.

    Samples between two steps of an integer depth go to one of the two at
    random, in proportion (rectangular dither of one step); samples on a step
    stay. What was written is read back and compared before it takes its place.
    Returns the number of samples clipped at full scale; where they may not be, the file
    is not kept if there are any. ``chunks``: what a WAVE file says beside its samples.
    """
    check_target(fmt, depth)
    container = _container(fmt, frames * channels * (2 if depth == "16" else 4))
    rng = np.random.default_rng(_SEED)
    clipped = 0
    with contextlib.suppress(_WouldClip), atomic(path, force) as temporary:
        how = (sample_rate, channels, DEPTHS[depth])
        written = 0
        with sf.SoundFile(os.fsencode(temporary), "w", *how, format=container) as file:
            for block in blocks:
                block_out, over = (block, 0) if depth == "32f" else quantize(block, int(depth), rng)
                clipped += over
                rows = np.ascontiguousarray(block_out.T)
                written = zlib.crc32(rows.tobytes(), written)
                file.write(rows)
            if clipped and not may_clip:
                raise _WouldClip
        if depth == "32f":
            undate_peak(temporary, ">" if fmt == "aiff" else "<")
        if fmt == "wav":
            append(temporary, chunks)
        if _read_back(temporary, depth) != written:
            raise OSError(errno.EIO, "what was written reads back otherwise")
    return clipped


def _read_back(path: Path, depth: str) -> int:
    """The sum over the samples of a file that was just written."""
    read = 0
    with sf.SoundFile(os.fsencode(path)) as file:
        for rows in file.blocks(_READ_FRAMES, dtype="float32" if depth == "32f" else "int32", always_2d=True):
            read = zlib.crc32(rows.tobytes(), read)
    return read


class _WouldClip(Exception):
    """Leaves a file that is not to be kept."""


def quantize(block: np.ndarray, bits: int, rng: np.random.Generator) -> tuple[np.ndarray, int]:
    """``block`` (float32) on the grid of ``bits``, left-justified in int32 (as soundfile writes it).

    Returns the int32 samples and how many of them were clipped. The mean error
    is zero (dither by a uniform random value of one step, Lipshitz, Wannamaker
    & Vanderkooy 1992), and no sample moves by a step or more.
    """
    scaled = block.astype(np.float64) * (1 << (bits - 1))
    steps = np.floor(scaled)
    between = steps != scaled
    steps[between] = np.floor(scaled[between] + rng.random(int(between.sum())))
    low, high = -(1 << (bits - 1)), (1 << (bits - 1)) - 1
    over = int(np.count_nonzero((scaled > high + 1) | (scaled < low)))
    np.clip(steps, low, high, out=steps)
    return steps.astype(np.int32) << (32 - bits), over


def _container(fmt: str, data_bytes: int) -> str:
    if fmt == "wav":
        return "RF64" if data_bytes > _RF64_FROM else "WAV"
    return fmt.upper()


def clear_left_over(folder: Path, ours: re.Pattern[str], remove: Callable[[Path], object]) -> None:
    """Take away what runs that were killed left unfinished in a folder, by names and a way to remove it.

    What is locked is being written now, and stays.
    """
    for path in folder.glob(f"{_PREFIX}*"):
        try:
            if not ours.fullmatch(path.name):
                continue
            handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError:
            continue
        with contextlib.suppress(OSError):
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            remove(path)
        os.close(handle)


def umask() -> int:
    """What this process leaves out of the rights of new files; that can only be set, and so is read from the system."""
    found = re.search(r"^Umask:\s*([0-7]+)", Path("/proc/self/status").read_text(), re.MULTILINE)
    return int(found[1], 8) if found else 0o022
