"""From what a person opens to a history that can be worked on; run in the background, without Qt."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from isophon.app.model.state import journal_path, kept_history
from isophon.core import memory
from isophon.core.audio.files import ENDINGS, Recording
from isophon.core.errors import DamagedError, InputError, IsophonError, shown
from isophon.core.reading import path_of
from isophon.core.session import file, layout
from isophon.core.session.history import History
from isophon.core.session.journal import replay
from isophon.core.staging import by_stage
from isophon.core.takes.roles import guess

_NEWER = ("There is newer work on this session that was not saved. It was left as it is: the start page offers it "
          "(go on where work was left).")  # fmt: skip

Opened = tuple[History, Path | None, Path | None, list[str]]
Progress = Callable[[float], None]


@memory.uncollected()
def open_session(path: Path) -> Opened:
    """A session with its history: the history, its file, the journal that goes on (or None), and what to tell.

    A damaged file gives way to its journal, or to what of it can be read.
    """
    try:
        too_many: list[str] = []
        session = file.load(path, too_many)
        if too_many:  # saving would lose the rest
            return History(session), None, None, [f"{'; '.join(too_many)}. Save it under another name."]
        for part in session.parts:
            part.prepare()
            list(by_stage(part.plan))  # what is worked out once
        history, newer = kept_history(session, path)
        return history, path, None, [_NEWER] if newer else []
    except DamagedError as error:
        journal = journal_path(path, "")
        try:
            replayed = replay(journal)
            warning = f"{error}. Everything was taken from the journal instead{lost_words(replayed.lost)}."
            return replayed.history, path, journal, [warning]
        except IsophonError:
            session, lost = file.rescue(path)
            warning = f"{path.name}: is damaged; {len(session.items)} recordings and their decisions were read, lost: "
            return History(session), None, None, [warning + "; ".join(lost) + ". Save it under another name."]


@memory.uncollected()
def recover(journal: Path) -> Opened:
    """The unsaved work of a journal."""
    replayed = replay(journal)
    notes = (
        [f"The journal of {replayed.history.session.name} was taken{lost_words(replayed.lost)}."]
        if replayed.lost
        else []
    )
    return replayed.history, path_of(replayed.saved_as) if replayed.saved_as else None, journal, notes


def lost_words(lines: int) -> str:
    """How much of a journal could not be read, as the end of a sentence."""
    return f", but for {lines} line{'s' if lines > 1 else ''} at its end that could not be read" if lines else ""


def open_recordings(paths: list[Path], progress: Progress) -> Opened:
    """A new session of recordings and folders."""
    arrivals, wrong = arrivals_of(paths, False, progress)
    if not arrivals:
        raise InputError(wrong[0] if wrong else "There is no recording in what was dropped.")
    name = (paths[0] if os.path.isdir(paths[0]) else paths[0].parent).name
    name = arrivals[0].name if len(arrivals) == 1 else name or arrivals[0].name
    return History(layout.new_session(name, arrivals)), None, None, wrong


def arrivals_of(paths: list[Path], has_lead: bool, progress: Progress) -> tuple[list[layout.Arrival], list[str]]:
    """What recordings and folders hold, with the guess of what each is; and a line for each that cannot be used."""
    recordings: list[Recording] = []
    wrong: list[str] = []
    try:
        for path in _files(paths, wrong):
            try:
                recordings.append(Recording(path))
            except InputError as error:
                wrong.append(str(error))
            progress(0.0)
        whats = guess(recordings, has_lead)
        return [
            layout.Arrival(layout.file_name(str(r.path)), layout.source_of(r), what)
            for r, what in zip(recordings, whats, strict=True)
        ], wrong
    finally:
        for recording in recordings:
            recording.close()


def _files(paths: list[Path], wrong: list[str]) -> list[Path]:
    """The recordings of folders and files; what is ``wrong`` with a folder is added there."""
    found: list[Path] = []
    for path in paths:
        try:
            if path.is_dir():
                found += sorted(p for p in path.iterdir() if p.suffix.lower() in ENDINGS and not p.name.startswith("."))
            else:
                found.append(path)
        except OSError as error:
            wrong.append(f"{shown(path.name)}: cannot be read ({error.strerror}); check its permissions")
    return list(dict.fromkeys(found))
