"""One take of the demo: sung, spoiled and written, in a process of its own.

``python -m isophon.core.demo.take FOLDER NAME NICENESS`` tells on standard output how far it is, 0 to 1, a line each.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import struct
import sys
from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path

import numpy as np
import soxr

from isophon.core.atomic import atomic, write_text
from isophon.core.audio.writing import write_stem
from isophon.core.demo.band import bed, cue
from isophon.core.demo.blemishes import spoil
from isophon.core.demo.cast import BAND, LEAD, RATE, Voice, frames_of, labels_path, time_reference_of, voices
from isophon.core.demo.score import BEAT_S, BREATH_S, SECONDS, whole_song
from isophon.core.demo.singer import Label, sing_at
from isophon.core.errors import IsophonError
from isophon.core.lifetime import end_with_parent


def load_labels(folder: Path, name: str = LEAD) -> list[Label]:
    """What was sung in a take of the demo, and how it was spoiled."""
    return [Label(**row) for row in json.loads(labels_path(folder, name).read_text())]


def _make_here(folder: Path, name: str) -> None:
    """Make one voice, or the cue and the music, and tell on standard output how far it is."""
    if name == BAND:
        _play(folder)
        return
    voice = next(voice for voice in voices() if voice.name == name)
    take, labels = _sing(voice, cue(whole_song()), lambda fraction: print(float(fraction), flush=True))
    write_text(labels_path(folder, name), json.dumps([asdict(label) for label in labels], indent=1) + "\n")
    raw = folder / f"{name}.unfinished.wav"
    write_stem(raw, [take[None, :]], voice.rate, 1, len(take), depth="24", force=True)
    _stamped(raw, folder / f"{name}.wav", time_reference_of(voice))
    raw.unlink()


def _play(folder: Path) -> None:
    feed, music = cue(whole_song()), bed()
    write_stem(folder / "Cue.wav", [feed[None, :]], RATE, 1, len(feed), depth="24", force=True)
    write_stem(folder / "Music.wav", [music], RATE, 2, music.shape[1], depth="16", force=True)


def _sing(voice: Voice, feed: np.ndarray, tell: Callable[[float], None]) -> tuple[np.ndarray, list[Label]]:
    """Sing and spoil one take: float32 ``(n,)``, and its labels in seconds of it."""
    start = voice.start
    lines = [replace(place, at=place.at - start) for place in voice.lines]
    take, labels = sing_at(lines, SECONDS - start, BEAT_S, BREATH_S, voice.mouth, tell, voice.loose_s)
    what = voice.blemishes
    take, labels = spoil(take, labels, feed[round(start * RATE) :], what)
    if voice.rate != RATE:
        take = soxr.resample(take, RATE, voice.rate, "VHQ")
    return np.asarray(take[: frames_of(voice)], np.float32), labels


def _stamped(path: Path, to: Path, time_reference: int) -> None:
    """Copy a WAVE file with a ``bext`` chunk added that holds a time reference (EBU Tech 3285, version 0)."""
    body = struct.pack("<256s32s32s10s8sQH", b"Isophon demo", b"Isophon", b"", b"2026-05-04", b"10:00:00",
                       time_reference, 0).ljust(602, b"\0")  # fmt: skip
    data = path.read_bytes()
    data += b"\0" * (len(data) & 1) + b"bext" + struct.pack("<I", len(body)) + body
    with atomic(to, force=True) as temporary:
        temporary.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])


if __name__ == "__main__":
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    end_with_parent(os.getppid())
    os.nice(int(sys.argv[3]))
    with contextlib.suppress(IsophonError):  # whoever began this says that the take is not there
        _make_here(Path(sys.argv[1]), sys.argv[2])
