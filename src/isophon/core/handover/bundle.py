"""A hand over as one whole: written into a folder beside its place, and moved there when everything is in it."""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path

from isophon.core.atomic import clear_left_over, umask
from isophon.core.errors import ExistsError, OutputError
from isophon.core.handover.target import Target

_PREFIX = ".isophon-whole-"
_OURS = re.compile(re.escape(_PREFIX) + r"[a-z0-9_]{8}")
_held: dict[Path, int] = {}  # folders that are being filled, and what locks them for this process


def check_place(folder: Path) -> None:
    """Raise where a whole cannot come to lie: there is something already."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise ExistsError(f"{folder}: is there already and holds something, which was kept; name a folder that is new")


def begin(target: Target) -> Target:
    """The same target in a folder of its own beside its place; OutputError where that cannot be made."""
    check_place(target.folder)
    beside = target.folder.absolute().parent
    try:
        beside.mkdir(parents=True, exist_ok=True)
        clear_left_over(beside, _OURS, partial(shutil.rmtree, ignore_errors=True))
        made = Path(tempfile.mkdtemp(prefix=_PREFIX, dir=beside))
        _held[made] = os.open(made, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        with contextlib.suppress(OSError):  # where nothing can be locked, nothing is cleared either
            fcntl.flock(_held[made], fcntl.LOCK_EX)
    except OSError as error:
        raise OutputError(f"{target.folder}: cannot be written ({error.strerror}); choose another folder") from error
    return replace(target, folder=made)


def complete(made: Target, target: Target) -> None:
    """Move what was made to its place."""
    try:
        check_place(target.folder)
        os.chmod(made.folder, 0o777 & ~umask())
        os.replace(made.folder, target.folder)
        _let_go(made.folder)
    except ExistsError:  # another run was there first
        give_up(made)
        raise
    except OSError as error:
        give_up(made)
        raise OutputError(f"{target.folder}: cannot be put there ({error.strerror}); nothing was left") from error


def give_up(made: Target) -> None:
    """Take away what was made so far."""
    shutil.rmtree(made.folder, ignore_errors=True)
    _let_go(made.folder)


def _let_go(folder: Path) -> None:
    if folder in _held:
        os.close(_held.pop(folder))


@contextlib.contextmanager
def all_or_nothing(target: Target) -> Iterator[Target]:
    """Everything written to the target that this gives comes to its place together, or not at all."""
    made = begin(target)
    try:
        yield made
    except BaseException:
        give_up(made)
        raise
    complete(made, target)
