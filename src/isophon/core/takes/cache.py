"""What was measured of recordings, kept on disk and mapped into memory: opening a take again reads next to nothing.

One folder a recording, named after its path, size, time and the program that
measured it, so that a changed file or program is measured again. Folders are
written completely or not at all, and the oldest go where they take too much room.
"""

from __future__ import annotations

import contextlib
import dataclasses
import errno
import hashlib
import logging
import mmap
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import platformdirs

import isophon
from isophon.core.errors import InputError, OutputError
from isophon.core.finding import Found
from isophon.core.reading import read_bytes, real
from isophon.core.survey import Survey, check_survey
from isophon.core.survey_streams import geometry_at
from isophon.core.takes.pictures import LOW_GEOMETRY, LOWS, VOICE, Spectrogram, Wave
from isophon.core.takes.scan import Figures

_log = logging.getLogger(__name__)

ROOM_IN = "ISOPHON_MEASUREMENTS_GB"  # of the environment: how much room a person gives to all of it
_ROOM_GB = 4  # GiB that measurements may take, where nobody chose otherwise
_LEAK = ("leak", "rest")
_KEY = re.compile("[0-9a-f]{16}")
_SIGN = "isophon.sign"  # an empty file in every folder that this program made
DAMAGE = (OSError, EOFError, ValueError, TypeError, KeyError, InputError, msgspec.MsgspecError)


class FindingResult(msgspec.Struct, frozen=True):
    """What finding gives: what was found, phrases and words (start, end in s).

    ``heard_without``: the bleed that was out of the take, see :meth:`isophon.core.audio.leak.Removal.key`.
    """

    found: Found
    phrases: tuple[tuple[float, float], ...]
    words: tuple[tuple[float, float], ...]
    heard_without: str = ""


class Surveyed(FindingResult, frozen=True, kw_only=True):
    """What surveying and finding give: measurements, pictures, and what was found in the take."""

    survey: Survey
    spectrogram: Spectrogram
    lows: Spectrogram


class _Kept(msgspec.Struct):
    values: dict[str, Any]
    result: FindingResult


def folder() -> Path:
    """Where everything that was measured of recordings lies."""
    return Path(platformdirs.user_cache_dir("isophon")) / "takes"


def size() -> int:
    """How many bytes that takes."""
    total = 0
    with contextlib.suppress(OSError):  # something went meanwhile
        for path in folder().rglob("*"):
            total += path.stat().st_size if path.is_file() else 0
    return total


def place_of(path: Path) -> Path:
    """The folder that belongs to a recording as it is now; InputError if it is not there."""
    try:
        status = path.stat()
    except (OSError, ValueError) as error:
        raise InputError(f"{path.name}: no such file; check the name and the folder ({path.parent})") from error
    key = f"{real(path)}\n{status.st_size}\n{status.st_mtime_ns}\n{program()}"
    name = hashlib.sha256(key.encode("utf-8", "surrogateescape")).hexdigest()[:24]
    return folder() / name


def keep_scan(place: Path, wave: Wave, figures: Figures) -> None:
    """Keep a first look; OutputError if there is no room."""
    with written_whole(place / "scan") as folder:
        _write_levels(folder, "wave", wave.levels)
        (folder / "figures.json").write_bytes(msgspec.json.encode(figures))


def kept_scan(place: Path) -> tuple[Wave, Figures] | None:
    """The first look at a recording, None where there was none."""
    folder = place / "scan"
    try:
        figures = msgspec.json.decode(read_bytes(folder / "figures.json"), type=Figures)
        return Wave(_levels(folder, "wave")), figures
    except DAMAGE:
        return None


def keep_picture(place: Path, name: str, picture: Spectrogram, without: str = "") -> None:
    """Keep one of a survey's pictures; ``without`` as in :class:`FindingResult`. OutputError if there is no room."""
    make_room(place.parent)
    with written_whole(_measured_folder(place, name, without)) as folder:
        _write_levels(folder, name, picture.levels)


def keep_survey(place: Path, survey: Survey, result: FindingResult) -> None:
    """Keep a survey and what was found beside its pictures; OutputError if there is no room."""
    make_room(place.parent)
    with written_whole(_measured_folder(place, "survey", result.heard_without)) as folder:
        values = {}
        for field in dataclasses.fields(Survey):
            value = getattr(survey, field.name)
            if isinstance(value, np.ndarray):
                np.save(folder / f"{field.name}.npy", value)
            else:
                values[field.name] = value
        (folder / "result.json").write_bytes(msgspec.json.encode(_Kept(values, result)))


def _measured_folder(place: Path, name: str, without: str) -> Path:
    """Where what was measured of a take is kept: as it was sung, and without each leak that was taken out of it."""
    return place / (f"{name}-{hashlib.sha256(without.encode()).hexdigest()[:16]}" if without else name)


def kept_survey(place: Path, without: str = "") -> Surveyed | None:
    """The survey of a recording ``without`` some bleed, its arrays mapped from disk; None where there was none."""
    folder = _measured_folder(place, "survey", without)
    try:
        content = msgspec.json.decode(read_bytes(folder / "result.json"), type=_Kept)
        arrays = {
            field.name: mapped(folder / f"{field.name}.npy")
            for field in dataclasses.fields(Survey)
            if field.name not in content.values
        }
        survey = Survey(**content.values, **arrays)
        check_survey(survey)
        geometry = geometry_at(survey.sample_rate)
        pictures = (_levels(_measured_folder(place, name, without), name) for name in ("spectrogram", "lows"))
        spectrogram = Spectrogram(geometry, VOICE, next(pictures))
        lows = Spectrogram(LOW_GEOMETRY, LOWS, next(pictures))
        with contextlib.suppress(OSError):
            os.utime(place)
        result = {field: getattr(content.result, field) for field in FindingResult.__struct_fields__}
        return Surveyed(survey=survey, spectrogram=spectrogram, lows=lows, **result)
    except DAMAGE as error:
        if folder.exists():
            _log.warning(f"what was measured of a take cannot be used and is measured anew ({error})")
        return None


def keep_leak(place: Path, key: str, arrays: tuple[np.ndarray, np.ndarray] | None, result: bytes) -> None:
    """Keeps a leak's two sounds and what was learned of it.

    Parameters
    ----------
    place : the take's folder in the cache.
    key : of the leak.
    arrays : the two sounds, ``(channels, frames)`` each; None where nothing leaked.
    result : what was learned.

    Raises
    ------
    OutputError
        Where there is no room.
    """
    make_room(place.parent)
    with written_whole(_leak_folder(place, key)) as folder:
        if arrays is not None:
            for name, sound in zip(_LEAK, arrays, strict=True):
                np.save(folder / f"{name}.npy", sound)
        (folder / "result.json").write_bytes(result)


def kept_leak(place: Path, key: str) -> tuple[np.ndarray, np.ndarray] | None:
    """A leak's two sounds, mapped from disk, float32 ``(channels, frames)`` each; None where they are not there."""
    try:
        leak, rest = (mapped(_leak_folder(place, key) / f"{name}.npy") for name in _LEAK)
        if not (leak.ndim == 2 and leak.shape == rest.shape and leak.dtype == rest.dtype == np.float32):
            raise ValueError("not the sounds of a leak")
        return leak, rest
    except DAMAGE:
        return None


def kept_leak_facts(place: Path, key: str) -> bytes | None:
    """What was learned of a leak before."""
    try:
        return read_bytes(_leak_folder(place, key) / "result.json")
    except DAMAGE:
        return None


def _leak_folder(place: Path, key: str) -> Path:
    """Where a leak of this name is kept; ValueError for a name that this program does not make."""
    if not _KEY.fullmatch(key):
        raise ValueError(f"{key!r} is no leak's name")
    return place / f"leak-{key}"


def _room() -> int:
    """How many bytes all of it may take."""
    chosen = os.environ.get(ROOM_IN, "")
    return (int(chosen) if chosen.isascii() and chosen.isdigit() and chosen != "0" else _ROOM_GB) << 30


def make_room(folder: Path, limit: int | None = None) -> None:
    """Give up the folders that were used longest ago until the rest takes less than ``limit`` bytes.

    ``limit``: None for as much as a person gives to it. Only folders that carry our own sign are ever taken away.
    """
    limit = _room() if limit is None else limit
    places = []
    with contextlib.suppress(OSError):
        for place in folder.iterdir():
            if place.is_symlink() or not (place / _SIGN).is_file():
                continue
            size = sum(file.stat().st_size for file in place.rglob("*") if file.is_file())
            places.append((place.stat().st_mtime, size, place))
    total = sum(size for _, size, _ in places)
    for _, size, place in sorted(places):
        if total <= limit:
            break
        shutil.rmtree(place, ignore_errors=True)
        total -= size


def let_go(array: np.ndarray) -> None:
    """Gives back the memory of an array of any shape that is mapped from disk; it is read again where needed."""
    if isinstance(array.base, mmap.mmap):
        array.base.madvise(mmap.MADV_DONTNEED)


@lru_cache(maxsize=1)
def program() -> str:
    """A name for what measures: its version and the text of its modules."""
    digest = hashlib.sha256(isophon.__version__.encode())
    for path in sorted(Path(__file__).parent.parent.rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()


def _write_levels(folder: Path, name: str, levels: list[np.ndarray]) -> None:
    for i, level in enumerate(levels):
        np.save(folder / f"{name}-{i}.npy", level)


def _levels(folder: Path, name: str) -> list[np.ndarray]:
    count = len(list(folder.glob(f"{name}-*.npy")))
    if not count:
        raise OSError(f"no {name}")
    return [mapped(folder / f"{name}-{i}.npy") for i in range(count)]


def mapped(path: Path) -> Any:
    """An array mapped from disk; ValueError where what lies there is none, however it is damaged."""
    try:
        return np.load(path, mmap_mode="r")
    except OSError:
        raise
    except Exception as error:  # a damaged head is read as Python text, which fails in many ways
        raise ValueError(f"{path.name} is damaged") from error


def signed(folder: Path) -> Path:
    """A folder that carries our own sign, as its parent does; made where it is not there."""
    folder.mkdir(parents=True, exist_ok=True)
    for one in (folder.parent, folder):
        (one / _SIGN).touch()
    return folder


@contextlib.contextmanager
def written_whole(folder: Path) -> Iterator[Path]:
    """A temporary folder that takes the place of ``folder`` when the block succeeds."""
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        (folder.parent / _SIGN).touch()
        temporary = Path(tempfile.mkdtemp(prefix=".", dir=folder.parent))
        try:
            (temporary / _SIGN).touch()
            yield temporary
            if folder.exists():
                if folder.is_symlink() or not (folder / _SIGN).is_file():
                    raise OSError(errno.EEXIST, f"{folder.name} is there and is not ours")
                shutil.rmtree(folder)
            temporary.rename(folder)
        except BaseException:
            shutil.rmtree(temporary, ignore_errors=True)
            raise
    except OSError as error:
        raise OutputError(
            f"{folder.parent.parent}: measurements cannot be kept there ({error.strerror or error}); "
            "make room on that disk"
        ) from error
