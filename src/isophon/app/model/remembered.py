"""What the window remembers of each session file: the station where it was left, and how it was handed over."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import msgspec

from isophon.core.reading import spelled

_MOST = 50  # sessions


class HandOverSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """What was chosen on the hand over page; names as the page has them."""

    name: str = ""
    depth: str = ""
    format: str = ""
    clip: str = ""
    ticked: tuple[str, ...] = ()


class Remembered(msgspec.Struct, frozen=True, omit_defaults=True):
    """One session's: ``station`` 0 is Lay out; ``about``: how far the work was, in words."""

    station: int = 0
    hand_over: HandOverSettings = HandOverSettings()
    about: Annotated[str, msgspec.Meta(max_length=200)] = ""


def recall(text: str, path: Path | None) -> Remembered | None:
    """What is remembered of a session file in the text that :func:`remember` gave; None where nothing is."""
    row = _rows(text).get(spelled(path)) if path else None
    try:
        return None if row is None else msgspec.convert(row, Remembered)
    except msgspec.MsgspecError:
        return None


def remember(text: str, path: Path, what: Remembered) -> str:
    """The text with a session file's put first; those that were left longest ago go."""
    rows = {spelled(path): msgspec.to_builtins(what), **{k: v for k, v in _rows(text).items() if k != spelled(path)}}
    return json.dumps(dict(list(rows.items())[:_MOST]))


def _rows(text: str) -> dict[str, Any]:
    try:
        rows = json.loads(text or "{}")
    except (ValueError, RecursionError):
        return {}
    return rows if isinstance(rows, dict) else {}
