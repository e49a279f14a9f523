"""Where stems go, what their files are called, and whether these places are free."""

from __future__ import annotations

import errno
import string
from collections.abc import Collection
from dataclasses import dataclass, replace
from pathlib import Path

from isophon.core.audio.writing import FORMATS
from isophon.core.errors import CallError, ExistsError, OutputError
from isophon.core.reading import path_of
from isophon.core.session.layout import file_name
from isophon.core.session.model import Part

_FIELDS = ("part", "role", "song", "number")
_LONGEST_NAME = 180  # bytes, so that what is added to it still fits into a name


@dataclass(frozen=True)
class Target:
    """Where stems go and how they are written.

    ``clip``: what is done with a stem that would clip at an integer depth: ``keep`` it, ``refuse`` it,
    ``trim`` it down as a whole, or write it as ``float``. ``without``: kinds whose work is left out. ``cues``:
    marks go into WAVE stems as cue points. ``proof``: rows tell what the proof shows. ``name``: the pattern of file
    names, of ``{part}``, ``{role}``, ``{song}`` and ``{number}``; '' for the recording's own; ``song``: its name;
    ``number``: the part's, see :func:`numbered`.
    ``together``: (start, end) of the song in s, which every stem then has; None: each as its recording. ``as_loud``: a
    gain leaves the voice as loud as it was sung.
    """

    folder: Path
    fmt: str = "wav"
    depth: str = "24"
    force: bool = False
    removed: bool = False
    labels: bool = False
    clip: str = "keep"
    without: tuple[str, ...] = ()
    cues: bool = False
    proof: bool = False
    name: str = ""
    song: str = ""
    together: tuple[float, float] | None = None
    as_loud: bool = False
    number: str = ""


def numbered(target: Target, row: int, rows: int) -> Target:
    """The same target with a part's number: its row among all, from 1, padded so that names sort as the rows."""
    return replace(target, number=f"{row:0{max(2, len(str(rows)))}d}")


def check_pattern(pattern: str) -> None:
    """Raise CallError for a pattern of names that says something unknown."""
    try:
        fields = [one[1:] for one in string.Formatter().parse(pattern) if one[1] is not None]
    except ValueError as error:
        raise CallError(f"the pattern '{pattern}' cannot be read ({error})") from error
    for name, spec, conversion in fields:
        if name not in _FIELDS or spec or conversion:
            known = ", ".join(f"{{{one}}}" for one in _FIELDS)
            raise CallError(f"the pattern '{pattern}' says {{{name}}}; what it can say is {known}")


def stem_name(part: Part, target: Target | None = None) -> str:
    """What a part's files are called: by the target's pattern, else as its recording or as the part was named."""
    source = path_of(part.source.path)
    if target is not None and target.name:
        values = {"part": part.name, "role": part.role, "song": target.song, "number": target.number}
        return _clean(target.name.format(**values)) or source.stem
    if part.name in (source.stem, file_name(part.source.path)):
        return source.stem
    return _clean(part.name) or source.stem


def _clean(name: str) -> str:
    """A name that a file can have and that is no path."""
    name = "".join("_" if c == "/" or not c.isprintable() else c for c in name).strip().lstrip(".")
    return name.encode()[:_LONGEST_NAME].decode(errors="ignore")


def stem_path(name: str, target: Target, what: str = "clean") -> Path:
    """The place of a stem: ``NAME.clean.wav`` in the target folder."""
    return target.folder / f"{name}.{what}{FORMATS[target.fmt]}"


def outputs(part: Part, target: Target) -> list[Path]:
    """All files that handing over one part writes, the report aside."""
    name = stem_name(part, target)
    paths = [stem_path(name, target)]
    if target.removed:
        paths.append(stem_path(name, target, "removed"))
    if target.labels:
        paths.append(target.folder / f"{name}.marks.tsv")
    return paths


def check_free(part: Part, target: Target, inputs: Collection[Path] = ()) -> list[Path]:
    """The outputs of one part; OutputError if one exists and may not be written over, or is one of the ``inputs``.

    CallError where its stem cannot have the length that it needs.
    """
    check_length(part, target)
    paths = outputs(part, target)
    for path in paths:
        check_not_there(path, target, (path_of(part.source.path), *inputs))
    return paths


def check_length(part: Part, target: Target) -> None:
    """Raise CallError for a part that has grown past the end of its recording where its stem may not."""
    past_end = part.ends_s - part.source.duration
    if past_end > 0 and target.together is None:
        raise CallError(
            f"{part.name}: a passage that was carried on reaches {past_end:.2f} s past the end of the recording. Let "
            "all stems begin and end with the song (--together), or take that passage back"
        )


def check_not_there(path: Path, target: Target, inputs: Collection[Path]) -> None:
    """OutputError if a file exists and may not be written over, or is one of the ``inputs``."""
    if not exists(path):
        return
    for source in inputs:
        if exists(source) and path.samefile(source):
            raise OutputError(f"{path}: is one of the inputs, which are never written to; use another folder")
    if not target.force:
        raise ExistsError(f"{path}: exists already and was kept; use another folder, or allow writing over it")


def exists(path: Path) -> bool:
    """Whether a file is there; OutputError where that cannot be found out."""
    try:
        return path.exists()
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or error
        too_long = getattr(error, "errno", 0) == errno.ENAMETOOLONG
        do = "use a shorter name" if too_long else "use another folder, or check its permissions"
        raise OutputError(f"{path}: cannot be written ({why}); {do}") from error
