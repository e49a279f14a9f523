"""What the window keeps between starts: autosaves and the list of recent sessions."""

from __future__ import annotations

import json
from pathlib import Path

import platformdirs


def state_folder() -> Path:
    """Where it lies."""
    return Path(platformdirs.user_state_dir("isophon"))


def autosaves() -> list[tuple[str, Path]]:
    """Unsaved work: the session's name and the autosave's path, newest first. Unreadable ones are left alone."""
    found = []
    for path in state_folder().glob("autosave/*.autosave"):
        try:
            name = str(json.loads(path.read_text(encoding="utf-8"))["session"]["name"])
            found.append((path.stat().st_mtime, name, path))
        except (OSError, ValueError, KeyError, TypeError):
            continue
    return [(name, path) for _, name, path in sorted(found, reverse=True)]


def recent_sessions() -> list[Path]:
    """Sessions opened or saved lately that are still there, latest first."""
    try:
        paths = [Path(p) for p in json.loads((state_folder() / "recent.json").read_text(encoding="utf-8"))]
    except (OSError, ValueError, TypeError):
        return []
    return [p for p in paths if p.exists()]
