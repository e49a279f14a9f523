"""The demo session: made on first use, kept in the person's cache."""

from __future__ import annotations

import json
import os
import signal
import struct
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np
import platformdirs
import soxr

from isophon.core.audio.files import Recording
from isophon.core.audio.threads import cores
from isophon.core.audio.writing import atomic, write_stem, write_text
from isophon.core.demo.band import bed, cue
from isophon.core.demo.blemishes import Blemishes, spoil
from isophon.core.demo.score import BEAT_S, BREATH_S, SECONDS, Placed, Slip, calls, choruses, whole_song
from isophon.core.demo.singer import RATE, Label, Mouth, sing_at
from isophon.core.errors import OutputError
from isophon.core.session import file, layout

SESSION_NAME = "Glasshouse Starlings"
LEAD = "Lead"
_EDITION = "4"
_BEFORE_SINGING = 0.06  # of the whole work: the cue and the bed
_PATIENCE_S = 2.0  # for processes that are told to end
_MIDNIGHT_TO_SONG_S = 36_000.0  # the session's recorder started its clock at ten in the morning
_HIGH = Mouth(scale=1.14, s_peak=6_600.0)
_SLIPS = {1: {6: Slip(held_s=0.16)}, 2: {0: Slip(moved_s=-0.12)}, 5: {5: Slip(missing=True)}}  # by line, by syllable
_LOW = Mouth(scale=1.0, transpose=-12.0, s_peak=5_200.0, voice_dbfs=-23.0, seed=21)


@dataclass(frozen=True)
class _Voice:
    """One take of the demo. ``start``: the second of the song at which its file begins."""

    name: str
    role: str
    singer: str
    lines: list[Placed]
    mouth: Mouth
    blemishes: Blemishes
    loose_s: float = 0.0
    start: float = 0.0
    rate: int = RATE


def _voices() -> list[_Voice]:
    high, low = "Imke Sorrel", "Tobias Quill"
    return [
        _Voice(LEAD, "lead", high, whole_song(), _HIGH, Blemishes(
            noises=((42.25, 42.7, "shuffle"),), ring=(2_650.0, 7.0, 9.0), seed=1)),
        _Voice("Lead double", "double", high, choruses(),
               Mouth(scale=1.14, s_peak=6_900.0, voice_dbfs=-24.0, seed=11),
               Blemishes(noises=((6.0, 7.4, "chatter"), (32.0, 32.9, "shuffle")), leak_db=-40.0, seed=2), 0.07),
        _Voice("High harmony", "harmony", high, choruses(2, _SLIPS),
               Mouth(scale=1.16, s_peak=7_000.0, voice_dbfs=-25.0, seed=12),
               Blemishes(hum_dbfs=-56.0, noises=((8.5, 9.2, "shuffle"), (60.5, 61.6, "chatter")), seed=3), 0.08),
        _Voice("Low harmony", "harmony", low, choruses(-2), _LOW,
               Blemishes(boxy=(340.0, 6.0, 3.0), noises=((31.0, 32.4, "chatter"),), leak_db=-38.0, seed=4), 0.08),
        _Voice("Ad-libs", "adlib", low, calls(), Mouth(1.0, -12.0, 5_400.0, voice_dbfs=-20.0, seed=22),
               Blemishes(hum_dbfs=None, hiss_dbfs=-68.0, clip_at=(50.9, 52.2), seed=5), 0.05, 22.0, 44_100),
    ]  # fmt: skip


def demo_folder() -> Path:
    """Where the demo lies: one folder an edition."""
    return Path(platformdirs.user_cache_dir("isophon")) / f"demo-{_EDITION}"


def make_demo(folder: Path, progress: Callable[[float], None] | None = None) -> Path:
    """The demo session's file; its takes, labels and session are made where they are not there yet.

    Raises OutputError if the folder cannot be written.
    """
    tell = progress or (lambda _fraction: None)
    session_path = folder / f"{SESSION_NAME}{file.ENDING}"
    names = [*(f"{voice.name}.wav" for voice in _voices()), "Cue.wav", "Music.wav"]
    if not all((folder / name).exists() for name in (*names, "labels.json")):
        _record(folder, tell)
    if not session_path.exists():
        file.save(_session(folder), session_path)
    tell(1.0)
    return session_path


def load_labels(folder: Path, name: str = LEAD) -> list[Label]:
    """What was sung in a take of the demo, and how it was spoiled."""
    return [Label(**row) for row in json.loads((folder / "labels.json").read_text())[name]]


def _record(folder: Path, tell: Callable[[float], None]) -> None:
    feed = cue(whole_song())
    write_stem(folder / "Cue.wav", [feed[None, :]], RATE, 1, len(feed), depth="24", force=True)
    music = bed()
    write_stem(folder / "Music.wav", [music], RATE, 2, music.shape[1], depth="16", force=True)
    tell(_BEFORE_SINGING)
    voices = _voices()
    shares = np.array([0.03 + len(voice.lines) / 45 for voice in voices])
    shares *= (0.98 - _BEFORE_SINGING) / shares.sum()
    fractions = [0.0] * len(voices)

    def sing(i: int) -> tuple[str, list[dict]]:
        return voices[i].name, _sung_elsewhere(folder, i, fractions, running)

    running: list[subprocess.Popen] = []
    with ThreadPoolExecutor(cores()) as pool:
        singing = [pool.submit(sing, i) for i in np.argsort(-shares)]  # the longest first
        try:
            while not all(future.done() for future in singing):
                wait(singing, 0.1)
                tell(_BEFORE_SINGING + float(np.dot(shares, fractions)))
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            _end(running, singing)
            raise
    labels = dict(future.result() for future in singing)
    text = {voice.name: labels[voice.name] for voice in voices}
    write_text(folder / "labels.json", json.dumps(text, indent=1) + "\n")


def _sung_elsewhere(folder: Path, number: int, fractions: list[float], running: list[subprocess.Popen]) -> list[dict]:
    """Have a process of its own sing one voice; the labels of its take.

    ``fractions``: how far each voice is; ``running``: the processes that were begun. OutputError where one ends early.
    """
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).resolve().parents[3]), "OPENBLAS_NUM_THREADS": "1"}
    command = [sys.executable, "-m", "isophon.core.demo.build", str(folder), str(number)]
    with subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True) as process:
        running.append(process)
        labels: list[dict] | None = None
        for line in process.stdout or ():
            reply = json.loads(line)
            if isinstance(reply, float):
                fractions[number] = reply
            else:
                labels = reply
    if labels is None:
        raise OutputError(f"{folder}: the demo could not be written there; make room on that disk and try again")
    fractions[number] = 1.0
    return labels


def _end(running: list[subprocess.Popen], singing: list[Future]) -> None:
    """Have all processes clear up and end; those that do not are ended."""
    ended, since = set[int](), time.monotonic()
    while not all(future.done() for future in singing):
        for process in list(running):
            if time.monotonic() - since > _PATIENCE_S:
                process.kill()
            elif process.pid not in ended:
                process.terminate()
                ended.add(process.pid)
        wait(singing, 0.1)


def _sing_here(folder: Path, number: int) -> None:
    """Sing one voice, and tell of it on standard output: how far it is, then its labels."""
    labels = _sing(folder, _voices()[number], cue(whole_song()), lambda f: print(json.dumps(float(f)), flush=True))
    print(json.dumps([asdict(label) for label in labels]), flush=True)


def _sing(folder: Path, voice: _Voice, feed: np.ndarray, tell: Callable[[float], None]) -> list[Label]:
    """Sing, spoil and write one take; its labels, in seconds of its file."""
    start = voice.start
    lines = [replace(place, at=place.at - start) for place in voice.lines]
    take, labels = sing_at(lines, SECONDS - start, BEAT_S, BREATH_S, voice.mouth, tell, voice.loose_s)
    what = voice.blemishes
    take, labels = spoil(take, labels, feed[round(start * RATE) :], what)
    if voice.rate != RATE:
        take = soxr.resample(take, RATE, voice.rate, "VHQ")
    path = folder / f"{voice.name}.wav"
    write_stem(path, [np.asarray(take, np.float32)[None, :]], voice.rate, 1, len(take), depth="24", force=True)
    _stamp(path, round((_MIDNIGHT_TO_SONG_S + start) * voice.rate))
    return labels


def _session(folder: Path) -> layout.Session:
    arrivals = []
    for voice in _voices():
        with Recording(folder / f"{voice.name}.wav") as recording:
            arrivals.append(layout.Arrival(voice.name, layout.source_of(recording), voice.role))
    for name, kind in (("Cue", "cue"), ("Music", "bed")):
        with Recording(folder / f"{name}.wav") as recording:
            arrivals.append(layout.Arrival(name, layout.source_of(recording), kind))
    session = layout.new_session(SESSION_NAME, arrivals)
    for part, voice in zip(session.parts, _voices(), strict=True):
        session = layout.set_singer(session, part.id, voice.singer)
    session = layout.set_listening(session, session.guides[-1].id, gain_db=-3.0)
    for at, name in ((16.9, "First chorus"), (43.3, "Second chorus"), (64.4, "Last chorus")):
        session = layout.add_marker(session, at, name)
    return session


def _stamp(path: Path, time_reference: int) -> None:
    """Add a ``bext`` chunk with a time reference to a WAVE file (EBU Tech 3285, version 0)."""
    body = struct.pack("<256s32s32s10s8sQH", b"Isophon demo", b"Isophon", b"", b"2026-05-04", b"10:00:00",
                       time_reference, 0).ljust(602, b"\0")  # fmt: skip
    data = path.read_bytes()
    data += b"\0" * (len(data) & 1) + b"bext" + struct.pack("<I", len(body)) + body
    with atomic(path, force=True) as temporary:
        temporary.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])


if __name__ == "__main__":
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    _sing_here(Path(sys.argv[1]), int(sys.argv[2]))
