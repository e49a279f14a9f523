"""The rough chains that a person keeps on this machine; each is a file that can travel."""

from __future__ import annotations

import logging
from pathlib import Path
from typing import Annotated

import msgspec
import platformdirs
from msgspec import Meta

from isophon.core.atomic import write_text
from isophon.core.errors import IsophonError, OutputError
from isophon.core.reading import read_bytes
from isophon.core.session.chain import STARTS, Chain

_log = logging.getLogger(__name__)

ENDING = ".roughchain"
VERSION = 1
_MOST, _MOST_BYTES = 200, 1 << 16


class _ChainFile(msgspec.Struct):
    """What a file holds."""

    isophon_rough_chain: int
    name: Annotated[str, Meta(min_length=1, max_length=120)]
    chain: Chain


def shelf() -> Path:
    """The folder that they lie in."""
    return Path(platformdirs.user_data_dir("isophon")) / "rough-chains"


def chains() -> dict[str, Chain]:
    """Those that are kept, by name; one that cannot be read is left out and noted in the log."""
    return {one.name: one.chain for one in _files().values() if one.name not in STARTS}


def keep(name: str, chain: Chain) -> None:
    """Keep a chain under a name, over an earlier one of the same name."""
    name = name.strip()[:120]
    if name in STARTS:
        raise OutputError(f"{name}: is a name of Isophon's own; choose another")
    there = next((path for path, one in _files().items() if one.name == name), None)
    write_text(there or _free(name), msgspec.json.encode(_ChainFile(VERSION, name, chain)).decode() + "\n")


def delete(name: str) -> None:
    """Delete a chain that was kept."""
    for path, one in _files().items():
        if one.name == name:
            try:
                path.unlink(missing_ok=True)
            except OSError as error:
                raise OutputError(f"{name}: cannot be deleted ({error.strerror})") from error


def _files() -> dict[Path, _ChainFile]:
    found = {}
    for path in sorted(shelf().glob(f"*{ENDING}"))[:_MOST]:
        try:
            found[path] = msgspec.json.decode(read_bytes(path, _MOST_BYTES), type=_ChainFile)
        except (IsophonError, msgspec.MsgspecError, ValueError, RecursionError) as error:
            _log.warning("%s: %s", path.name, error)
    return found


def _free(name: str) -> Path:
    plain = "".join(c if c.isalnum() or c in " -_" else "_" for c in name).strip() or "chain"
    taken = {path.name for path in shelf().glob(f"*{ENDING}")}
    names = (f"{plain}{'' if number == 1 else f' {number}'}{ENDING}" for number in range(1, _MOST + 2))
    return shelf() / next(one for one in names if one not in taken)
