"""A hand over as one whole: written into a folder beside its place, and moved there when everything is in it."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from isophon.core.audio.writing import umask
from isophon.core.errors import ExistsError, OutputError
from isophon.core.handover.stems import Target

_PREFIX = ".isophon-whole-"


def check_place(folder: Path) -> None:
    """Raise where a whole cannot come to lie: there is something already."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise ExistsError(f"{folder}: is there already and holds something, which was kept; name a folder that is new")


def begin(target: Target) -> Target:
    """The same target in a folder of its own beside its place; OutputError where that cannot be made."""
    check_place(target.folder)
    try:
        target.folder.absolute().parent.mkdir(parents=True, exist_ok=True)
        made = tempfile.mkdtemp(prefix=_PREFIX, dir=target.folder.absolute().parent)
    except OSError as error:
        raise OutputError(f"{target.folder}: cannot be written ({error.strerror}); choose another folder") from error
    return replace(target, folder=Path(made))


def complete(made: Target, target: Target) -> None:
    """Move what was made to its place."""
    check_place(target.folder)
    try:
        os.chmod(made.folder, 0o777 & ~umask())
        os.replace(made.folder, target.folder)
    except OSError as error:
        give_up(made)
        raise OutputError(f"{target.folder}: cannot be put there ({error.strerror}); nothing was left") from error


def give_up(made: Target) -> None:
    """Take away what was made so far."""
    shutil.rmtree(made.folder, ignore_errors=True)


@contextlib.contextmanager
def whole(target: Target) -> Iterator[Target]:
    """Everything written to the target that this gives comes to its place together, or not at all."""
    made = begin(target)
    try:
        yield made
    except BaseException:
        give_up(made)
        raise
    complete(made, target)
