"""What the window keeps between starts: journals of unsaved work, and the list of recent sessions."""

from __future__ import annotations

import contextlib
import hashlib
import json
from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from isophon.core.errors import IsophonError
from isophon.core.locks import Lock, is_locked, lock
from isophon.core.reading import path_of, read_bytes

if TYPE_CHECKING:
    from isophon.core.session.history import History
    from isophon.core.session.model import Session

_MOST_JOURNAL, _MOST_SMALL = 512 << 20, 1 << 20


def state_folder() -> Path:
    """Where it lies."""
    return Path(platformdirs.user_state_dir("isophon"))


def journal_path(saved_as: Path | None, source: str) -> Path:
    """Where the journal of a session lies: one for each session file, or for each recording that has none yet."""
    key = f"session {saved_as}" if saved_as else f"recording {source}"
    name = hashlib.sha256(key.encode("utf-8", "surrogateescape")).hexdigest()[:20]
    return state_folder() / "journals" / f"{name}.journal"


def claim_journal(saved_as: Path | None, continued: Path | None, source: str) -> tuple[Path, Lock, bool]:
    """The journal that a window may write, locked for it, and whether its session is open in another window already.

    ``continued``: the journal whose unsaved work goes on. Where a session is open elsewhere, the journal is one
    for a copy of it that has no file yet.
    """
    path = journal_path(saved_as, source)
    held = lock(lock_path(path))
    if held is not None and continued not in (None, path) and is_locked(lock_path(continued)):
        held.release()
        held = None
    if held is not None:
        return path, held, False
    again = 1
    while (held := lock(lock_path(path := journal_path(None, f"{source} copy {again}")))) is None or path.exists():
        if held is not None:
            held.release()
        again += 1
    return path, held, saved_as is not None or continued is not None


def lock_path(journal: Path) -> Path:
    """The lock of a journal: whoever holds it may write."""
    return journal.with_suffix(".lock")


def make_room(path: Path) -> None:
    """Move a journal of unsaved work out of the way of a new one, under a free name; it stays on offer."""
    if _is_unsaved(path):
        from isophon.core.session.found_file import found_path

        again = 1
        while (place := path.with_name(f"{path.stem}-{again}.journal")).exists():
            again += 1
        path.rename(place)
        with contextlib.suppress(OSError):
            found_path(path).rename(found_path(place))


def unsaved_work() -> list[tuple[str, Path]]:
    """Unsaved work that no window has open: the session's name and the journal's path, newest first."""
    found = []
    for path in state_folder().glob("journals/*.journal"):
        name = "" if path.name.startswith(".") else _is_unsaved(path)
        if name and not is_locked(lock_path(path)):
            with contextlib.suppress(OSError):
                found.append((path.stat().st_mtime, name, path))
    return [(name, path) for _, name, path in sorted(found, reverse=True)]


def _is_unsaved(path: Path) -> str:
    """The name of the session whose steps after the last saving a journal holds; '' for none, or if unreadable."""
    try:
        lines = read_bytes(path, _MOST_JOURNAL).split(b"\n")
        name = str(json.loads(lines[0])["first"]["name"])
        last = max((i for i, line in enumerate(lines) if line.startswith(b'{"saved"')), default=0)
        steps = any(line.startswith((b'{"step"', b'{"go"')) and line.endswith(b"}") for line in lines[last + 1 :])
        return (name or "no name") if steps else ""
    except (IsophonError, OSError, ValueError, KeyError, TypeError, RecursionError):
        return ""


def kept_history(session: Session, path: Path) -> tuple[History, bool]:
    """The history of a session as it was when its file was saved; a new one where none was kept or it differs.

    Also whether the journal holds work that is newer than the file.
    """
    from isophon.core.session.facts import SessionFacts, decisions_of, session_facts_of
    from isophon.core.session.history import History
    from isophon.core.session.journal import replay

    journal = journal_path(path, "")
    if journal.exists():
        try:
            replayed = replay(journal)
        except IsophonError:
            return History(session), False
        steps, at, facts = replayed.history.snapshot
        if not replayed.unsaved and replayed.saved == decisions_of(session):
            mine = session_facts_of(session)  # of what both tell, the journal's counts: it is written at once
            played = tuple(sorted({*facts.heard, *mine.heard}))
            facts = SessionFacts({**mine.by_part, **facts.by_part}, mine.muted, played)
            return History.restored(steps, at, facts), False
        return History(session), replayed.unsaved
    return History(session), False


def recent_sessions() -> list[Path]:
    """Sessions opened or saved lately that are still there, latest first."""
    try:
        stored = json.loads(read_bytes(state_folder() / "recent.json", _MOST_SMALL))
    except (IsophonError, ValueError, RecursionError):
        return []
    paths = [path_of(one) for one in stored if isinstance(one, str)] if isinstance(stored, list) else []
    return [p for p in paths if p.is_file()]
