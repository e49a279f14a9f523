"""Stems out: whole or not at all, at a chosen depth.

A file is written beside its final name and moved there when it is complete, so
that a full disk, an error or an interrupted run leaves nothing half-written.
"""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np
import soundfile as sf

from isophon.core.errors import CallError, OutputError

FORMATS = {"wav": ".wav", "flac": ".flac", "aiff": ".aiff"}
DEPTHS = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}
_RF64_FROM = 4_000_000_000  # a RIFF chunk counts its bytes with 32 bits
_SEED = 20_482


def check_target(fmt: str, depth: str) -> None:
    """Raise CallError for a format and depth that do not go together."""
    if fmt not in FORMATS:
        raise CallError(f"format '{fmt}' is not known; use one of {', '.join(FORMATS)}")
    if depth not in DEPTHS:
        raise CallError(f"depth '{depth}' is not known; use one of {', '.join(DEPTHS)}")
    if fmt == "flac" and depth == "32f":
        raise CallError("FLAC holds no 32-bit float samples; use --depth 24, or --format wav")


@contextlib.contextmanager
def atomic(path: Path, force: bool) -> Iterator[Path]:
    """A temporary path beside ``path`` that takes its place if the block succeeds.

    Raises OutputError if ``path`` exists and ``force`` is false, or on any
    failure to write; the temporary file is then gone and ``path`` untouched.
    """
    temporary: Path | None = None
    try:
        if path.exists() and not force:
            raise OutputError(f"{path}: exists already; it was kept (use --force to write over it)")
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=".", suffix=".part" + path.suffix, dir=path.parent)
        os.close(handle)
        temporary = Path(name)
        yield temporary
        _flush(temporary)
        os.chmod(temporary, 0o666 & ~_umask())
        os.replace(temporary, path)
        temporary = None
    except (OSError, sf.LibsndfileError) as error:
        what = getattr(error, "strerror", None) or str(error)
        raise OutputError(f"{path}: cannot be written ({what}); nothing half-written was left") from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)


def write_text(path: Path, text: str, force: bool = True) -> None:
    """Write ``text`` as UTF-8 to ``path``, whole or not at all."""
    with atomic(path, force) as temporary:
        temporary.write_text(text, encoding="utf-8")


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
) -> int:
    """Write ``blocks`` of float32 ``(channels, n)`` as one audio file.

    Samples between two steps of an integer depth go to one of the two at
    random, in proportion (rectangular dither of one step); samples on a step
    stay. Returns the number of samples clipped at full scale.
    """
    check_target(fmt, depth)
    container = _container(fmt, frames * channels * (2 if depth == "16" else 4))
    rng = np.random.default_rng(_SEED)
    clipped = 0
    with (
        atomic(path, force) as temporary,
        sf.SoundFile(temporary, "w", sample_rate, channels, DEPTHS[depth], format=container) as file,
    ):
        for block in blocks:
            if depth == "32f":
                file.write(block.T)
                continue
            whole, over = quantize(block, int(depth), rng)
            clipped += over
            file.write(np.ascontiguousarray(whole.T))
    return clipped


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


def _flush(path: Path) -> None:
    with path.open("rb") as file:
        os.fsync(file.fileno())


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
