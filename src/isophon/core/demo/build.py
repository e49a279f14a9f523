"""The demo session: made on first use, kept in the person's cache."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from pathlib import Path

import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.audio.threads import cores
from isophon.core.demo.cast import BAND, LEAD, frames_of, labels_path, time_reference_of, voices
from isophon.core.errors import OutputError
from isophon.core.lifetime import end_with_parent
from isophon.core.locks import lock
from isophon.core.reading import spelled
from isophon.core.session import file, layout
from isophon.core.session.items import Source

SESSION_NAME = "Glasshouse Starlings"
_LAST = 19  # the niceness that comes after all others
_LOOK_S = 0.1
_PATIENCE_S = 2.0  # for processes that are asked to end


def make_demo(folder: Path, progress: Callable[[float], None] | None = None) -> Path:
    """The demo session's file; its takes, labels and session are made where they are not there yet.

    Raises OutputError if the folder cannot be written.
    """
    tell = progress or (lambda _fraction: None)
    session_path = begin_demo(folder, lambda fraction: tell(0.3 * fraction))
    finish_demo(folder, lambda fraction: tell(0.3 + 0.7 * fraction))
    tell(1.0)
    return session_path


def begin_demo(folder: Path, progress: Callable[[float], None], niceness: int = 0) -> Path:
    """The demo session's file, once its lead, its cue and its music are there; the other parts may be missing.

    ``niceness``: how much else comes first. Raises OutputError if the folder cannot be written.
    """
    session_path = folder / f"{SESSION_NAME}{file.ENDING}"
    _make(folder, [LEAD, BAND], progress, niceness)
    if not session_path.exists():
        file.save(_session(folder), session_path)
    return session_path


def unmade_parts(folder: Path) -> list[Path]:
    """The recordings of the demo's parts that are not there yet."""
    return [folder / f"{voice.name}.wav" for voice in voices() if not _is_there(folder, voice.name)]


def finish_demo(folder: Path, progress: Callable[[float], None], niceness: int = 0) -> None:
    """Make the parts of the demo that are not there yet; ``niceness``: how much else comes first.

    Raises OutputError if the folder cannot be written.
    """
    _make(folder, [voice.name for voice in voices()], progress, niceness)


def _is_there(folder: Path, name: str) -> bool:
    """Whether a voice, or the cue and the music, was made."""
    if name == BAND:
        return (folder / "Cue.wav").exists() and (folder / "Music.wav").exists()
    return (folder / f"{name}.wav").exists() and labels_path(folder, name).exists()


def _make(folder: Path, names: list[str], tell: Callable[[float], None], niceness: int = 0) -> None:
    """Make what is missing of voices, and of the cue and the music, once no other process makes any."""
    if all(_is_there(folder, name) for name in names):
        return
    held = lock(folder / ".making")
    while held is None:
        tell(0.0)
        time.sleep(_LOOK_S)
        held = lock(folder / ".making")
    try:
        missing = [name for name in names if not _is_there(folder, name)]
        if missing:
            _make_missing(folder, missing, tell, niceness)
    finally:
        held.release()


def _make_missing(folder: Path, names: list[str], tell: Callable[[float], None], niceness: int) -> None:
    """Make voices, and the cue and the music, each in a process of its own."""
    lines = {voice.name: len(voice.lines) for voice in voices()}
    shares = np.array([0.03 + lines.get(name, 4) / 45 for name in names])
    shares /= shares.sum()
    fractions = dict.fromkeys(names, 0.0)
    running: list[subprocess.Popen] = []
    with ThreadPoolExecutor(cores()) as pool:
        longest_first = [names[i] for i in np.argsort(-shares)]
        making = [pool.submit(_made_elsewhere, folder, name, niceness, fractions, running) for name in longest_first]
        try:
            while not all(future.done() for future in making):
                wait(making, 0.1)
                tell(float(np.dot(shares, [fractions[name] for name in names])))
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            _end(running, making)
            raise
    for future in making:
        future.result()


def _made_elsewhere(folder: Path, name: str, niceness: int, fractions: dict[str, float],
                    running: list[subprocess.Popen]) -> None:  # fmt: skip
    """Have a process of its own make one voice, or the cue and the music.

    ``fractions``: how far each is; ``running``: the processes that were begun. OutputError where one ends early.
    """
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).resolve().parents[3]), "OPENBLAS_NUM_THREADS": "1"}
    command = [sys.executable, "-m", "isophon.core.demo.take", str(folder), name, str(niceness)]
    with subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True) as process:
        running.append(process)
        for line in process.stdout or ():
            fractions[name] = float(line)
    if not _is_there(folder, name):
        raise OutputError(f"{folder}: the demo could not be written there; make room on that disk and try again")
    fractions[name] = 1.0


def _end(running: list[subprocess.Popen], making: list[Future]) -> None:
    """Have all processes clear up and end; those that do not are ended."""
    ended, since = set[int](), time.monotonic()
    while not all(future.done() for future in making):
        for process in list(running):
            if time.monotonic() - since > _PATIENCE_S:
                process.kill()
            elif process.pid not in ended:
                process.terminate()
                ended.add(process.pid)
        wait(making, 0.1)


def _session(folder: Path) -> layout.Session:
    """The session; of voices that are not sung yet it is known how long they will be."""
    arrivals = [
        layout.Arrival(
            voice.name,
            Source(spelled(folder / f"{voice.name}.wav"), voice.rate, 1, frames_of(voice), time_reference_of(voice)),
            voice.role,
        )
        for voice in voices()
    ]
    for name, kind in (("Cue", "cue"), ("Music", "bed")):
        with Recording(folder / f"{name}.wav") as recording:
            arrivals.append(layout.Arrival(name, layout.source_of(recording), kind))
    session = layout.new_session(SESSION_NAME, arrivals)
    for part, voice in zip(session.parts, voices(), strict=True):
        session = layout.set_singer(session, part.id, voice.singer)
    session = layout.set_listening(session, session.guides[-1].id, gain_db=-3.0)
    for at, name in ((16.9, "First chorus"), (43.3, "Second chorus"), (64.4, "Last chorus")):
        session = layout.add_marker(session, at, name)
    return session


if __name__ == "__main__":  # FOLDER PARENT: the lead, the cue and the music, once nothing else wants the machine
    end_with_parent(int(sys.argv[2]))
    begin_demo(Path(sys.argv[1]), lambda _fraction: None, _LAST)
