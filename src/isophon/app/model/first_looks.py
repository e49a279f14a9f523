"""Which passes a person has decided something in: the line that says what to look at there has then done its work."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from isophon.app.model.state import state_folder
from isophon.core.atomic import write_text
from isophon.core.errors import IsophonError
from isophon.core.reading import read_bytes

_MOST_BYTES = 1 << 12


def known() -> set[str]:
    """The kinds of these passes; none where that cannot be read."""
    with contextlib.suppress(IsophonError, ValueError, RecursionError):
        kinds = json.loads(read_bytes(_path(), _MOST_BYTES))
        return {kind for kind in kinds if isinstance(kind, str)} if isinstance(kinds, list) else set()
    return set()


def learned(kind: str) -> None:
    """Remember one; where that cannot be written, its line is shown again the next time."""
    with contextlib.suppress(IsophonError):
        write_text(_path(), json.dumps(sorted({*known(), kind})) + "\n")


def _path() -> Path:
    return state_folder() / "first-looks.json"
