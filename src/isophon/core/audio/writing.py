"""Stems out: completely or not at all, at a chosen depth."""

from __future__ import annotations

import contextlib
import errno
import os
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np
import soundfile as sf

from isophon.core.atomic import atomic
from isophon.core.audio.chunks import append, undate_peak
from isophon.core.errors import CallError

FORMATS = {"wav": ".wav", "flac": ".flac", "aiff": ".aiff"}
DEPTHS = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}
_RF64_FROM = 4_000_000_000  # a RIFF chunk counts its bytes with 32 bits
_SEED = 20_482  # of the dither, so that the same session writes the same file
_READ_FRAMES = 1 << 17  # read at once where a written file is checked


def check_target(fmt: str, depth: str) -> None:
    """Raise CallError for a format and depth that do not go together."""
    if fmt not in FORMATS:
        raise CallError(f"format '{fmt}' is not known; use one of {', '.join(FORMATS)}")
    if depth not in DEPTHS:
        raise CallError(f"depth '{depth}' is not known; use one of {', '.join(DEPTHS)}")
    if fmt == "flac" and depth == "32f":
        raise CallError("FLAC holds no 32-bit float samples; use 24 bit, or WAV")


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
    with contextlib.suppress(_WouldClip), atomic(path, force) as temporary, _as_system_errors():
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


@contextlib.contextmanager
def _as_system_errors() -> Iterator[None]:
    """What libsndfile cannot write is an OSError, as what the system cannot."""
    try:
        yield
    except sf.LibsndfileError as error:
        raise OSError(str(error)) from error


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
