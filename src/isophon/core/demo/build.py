"""The demo session: made on first use, kept in the person's cache."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path

import platformdirs

from isophon.core.audio.writing import write_stem, write_text
from isophon.core.demo.score import BEAT_S, BREATH_S, LINES
from isophon.core.demo.singer import RATE, Label, Mouth, sing
from isophon.core.session import edits, file

SESSION_NAME = "Glasshouse Starlings"
TAKE_NAME = "Glasshouse Starlings lead.wav"
_EDITION = "1"


def demo_folder() -> Path:
    """Where the demo lies: one folder an edition."""
    return Path(platformdirs.user_cache_dir("isophon")) / f"demo-{_EDITION}"


def make_demo(folder: Path, progress: Callable[[float], None] | None = None) -> Path:
    """The demo session's file; its take, labels and session are made where they are not there yet.

    Raises OutputError if the folder cannot be written.
    """
    session_path = folder / f"{SESSION_NAME}{file.ENDING}"
    take_path = folder / TAKE_NAME
    if not (take_path.exists() and (folder / "labels.json").exists()):
        take, labels = sing(LINES, BEAT_S, BREATH_S, Mouth(), progress)
        write_stem(take_path, [take[None, :]], RATE, 1, len(take), depth="24", force=True)
        write_text(folder / "labels.json", json.dumps([asdict(label) for label in labels], indent=1) + "\n")
    if not session_path.exists():
        frames = _frames(take_path)
        file.save(edits.new_session(SESSION_NAME, take_path, RATE, 1, frames), session_path)
    return session_path


def load_labels(folder: Path) -> list[Label]:
    """What was sung in the demo take."""
    return [Label(**row) for row in json.loads((folder / "labels.json").read_text())]


def _frames(path: Path) -> int:
    from isophon.core.audio.files import Recording

    with Recording(path) as recording:
        return recording.frames
