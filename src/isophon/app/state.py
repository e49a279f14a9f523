"""What the window keeps between starts: journals of unsaved work, and the list of recent sessions."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from isophon.core.errors import IsophonError

if TYPE_CHECKING:
    from isophon.core.session.history import History
    from isophon.core.session.model import Session


def state_folder() -> Path:
    """Where it lies."""
    return Path(platformdirs.user_state_dir("isophon"))


def journal_path(saved_as: Path | None, source: str) -> Path:
    """Where the journal of a session lies: one for each session file, or for each recording that has none yet."""
    key = f"session {saved_as}" if saved_as else f"recording {source}"
    return state_folder() / "journals" / (hashlib.sha256(key.encode()).hexdigest()[:20] + ".journal")


def make_room(path: Path) -> None:
    """Move a journal of unsaved work out of the way of a new one, under a free name; it stays on offer."""
    if any(path == unsaved for _, unsaved in unsaved_work()):
        again = 1
        while (place := path.with_name(f"{path.stem}-{again}.journal")).exists():
            again += 1
        path.rename(place)


def unsaved_work() -> list[tuple[str, Path]]:
    """Unsaved work: the session's name and the journal's path, newest first. Unreadable ones are left alone."""
    found = []
    for path in state_folder().glob("journals/*.journal"):
        try:
            lines = path.read_bytes().split(b"\n")
            name = str(json.loads(lines[0])["first"]["name"])
            last = max((i for i, line in enumerate(lines) if line.startswith(b'{"saved"')), default=0)
            if any(line.startswith((b'{"step"', b'{"go"')) and line.endswith(b"}") for line in lines[last + 1 :]):
                found.append((path.stat().st_mtime, name, path))
        except (OSError, ValueError, KeyError, TypeError):
            continue
    return [(name, path) for _, name, path in sorted(found, reverse=True)]


def kept_history(session: Session, path: Path) -> History:
    """The history of a session as it was when its file was saved; a new one where none was kept or it differs."""
    from isophon.core.session.history import History
    from isophon.core.session.journal import replay

    journal = journal_path(path, "")
    if journal.exists():
        try:
            kept = replay(journal)
        except IsophonError:
            return History(session)
        if not kept.unsaved and kept.saved == session:
            return kept.history
    return History(session)


def recent_sessions() -> list[Path]:
    """Sessions opened or saved lately that are still there, latest first."""
    try:
        paths = [Path(p) for p in json.loads((state_folder() / "recent.json").read_text(encoding="utf-8"))]
    except (OSError, ValueError, TypeError):
        return []
    return [p for p in paths if p.exists()]
