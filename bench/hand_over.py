"""Handing over a whole stack with a leaked cue, once found and from raw files; the rough chain; lining up.

Usage: .venv/bin/python bench/hand_over.py [PARTS] [SECONDS]
"""

from __future__ import annotations

import os
import sys
import tempfile
import threading
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import common
import msgspec
import numpy as np
import soundfile as sf
from scipy import signal

from isophon.core.audio.files import Recording
from isophon.core.audio.threads import cores
from isophon.core.demo.blemishes import ear_to_microphone
from isophon.core.finding import find_against, survey_recording
from isophon.core.handover.target import Target
from isophon.core.passes import BY_NAME
from isophon.core.playing.rough_chain import RoughChain
from isophon.core.session import adopting, edits
from isophon.core.session.chain import STARTS
from isophon.core.session.items import Guide, Source
from isophon.core.session.model import Part, Session
from isophon.core.takes import cache as take_cache
from isophon.core.work import worker
from isophon.core.work.completing import needed
from isophon.core.work.leak_learning import CueFile, Learned, Lesson
from isophon.core.work.messages import HandOver, Learn, Measure, Request
from isophon.core.work.workers import Task, Workers


def session_of(folder: Path, count: int, seconds: float) -> Session:
    """Takes that differ, each with the leak of a cue in it."""
    samples, rate = sf.read(common.long_take(folder / "long.wav", seconds), dtype="float32")
    feed = common.feed(len(samples))
    leak = signal.oaconvolve(feed, ear_to_microphone(3))[: len(samples)]
    leak *= 10 ** (-30 / 20) * np.std(samples) / np.std(leak)
    sf.write(folder / "cue.wav", feed, rate, subtype="PCM_24")
    parts = []
    for i in range(count):
        path = folder / f"part {i + 1}.wav"
        sf.write(path, np.roll(samples, i * len(samples) // count) * (0.9 - 0.02 * i) + leak, rate, subtype="PCM_24")
        role = "lead" if i == 0 else "harmony"
        parts.append(Part(f"part-{i + 1}", path.stem, Source(str(path), rate, 1, len(samples)), role))
    cue = Guide("part-99", "cue", Source(str(folder / "cue.wav"), rate, 1, len(samples)), "cue")
    return edits.role_settings(Session("song", tuple(parts), (cue,)), [p.id for p in parts], list(BY_NAME))


def all_done(workers: Workers, requests: list[Request]) -> list:
    """Do requests on all cores; their answers."""
    answers, left = [], threading.Semaphore(0)

    def told(kind: str, value: object) -> None:
        if kind != "progress":
            answers.append((kind, value))
            left.release()

    for request in requests:
        workers.submit(Task(request, told))
    for _ in requests:
        left.acquire()
    failed = [value for kind, value in answers if kind != "done"]
    assert not failed, failed[:1]
    return [value for _, value in answers]


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 12
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 240.0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_CACHE_HOME"], os.environ["XDG_STATE_HOME"] = name + "/cache", name + "/state"
        session = session_of(folder, count, seconds)
        samples = sf.read(folder / "part 1.wav", dtype="float32")[0]
        trip, sum_of_trips = common.median_time(lambda: round_trip(samples), 3), trips(samples, count)
        workers = Workers()
        watch = common.Watch(own=False)
        watch.start()
        start = time.perf_counter()
        lesson = Lesson((CueFile(session.guides[0].source.path, 0.0, "part-99"),))
        paths = [p.source.path for p in session.parts]
        learned = all_done(workers, [Learn(path=p, lesson=lesson) for p in paths])
        print(f"learned: {time.perf_counter() - start:.0f} s, {len(learned)} leaks")
        all_done(workers, [Measure(path=p) for p in paths])
        found, learning = time.perf_counter() - start, watch.peak
        for part in session.parts:
            kept = take_cache.kept_survey(take_cache.place_of(Path(part.source.path)))
            told = msgspec.convert(worker.learn_bleed(Path(part.source.path), lesson, lambda _f: None), dict)
            session = adopt(session, part.id, kept, told)
        target = Target(folder / "out", force=True, labels=True, cues=True, proof=True, song="song")
        watch.done, watch = True, common.Watch(own=False)
        watch.start()
        start = time.perf_counter()
        all_done(workers, [HandOver(session=needed(session, p), part=p.id, target=target) for p in session.parts])
        wrote = time.perf_counter() - start
        watch.done = True
        workers.close()
        print(
            f"{count} parts of {seconds:.0f} s, {cores()} cores: found {found:.0f} s, written {wrote:.0f} s  (aim: 60)"
        )
        sum_of_trips = (sum_of_trips + trips(samples, count)) / 2
        whole = (found + wrote) / sum_of_trips
        print(f"whole from raw files {whole:.1f} times what the round trips of all parts take on all cores, "
              f"{whole / cores():.1f} times what they take on each core  (aim: 3)")  # fmt: skip
        writing = watch.peak
        print(f"memory of all workers: learning {learning:.0f} MB, writing {writing:.0f} MB  (aim: 900)")
        line_up(folder, trip)
    chain()


def adopt(session: Session, part_id: str, kept, told: dict) -> Session:
    learned = msgspec.convert(told, Learned)
    session = adopting.adopt_leak(session, part_id, learned.facts, learned.marks)
    part = session.part(part_id)
    findings = adopting.Findings(part.source, kept.found.marks, kept.survey.voice_lufs, kept.survey.floor_dbfs,
                              kept.found.measured, "")  # fmt: skip
    return adopting.adopt_findings(session, part_id, findings)


def trips(samples: np.ndarray, count: int) -> float:
    """The seconds that so many round trips take on all cores: cores that are busy are slower than one alone."""
    with ProcessPoolExecutor(cores()) as pool:
        list(pool.map(round_trip, [samples[: common.RATE]] * cores()))  # they are there
        start = time.perf_counter()
        list(pool.map(round_trip, [samples] * count))
        return time.perf_counter() - start


def round_trip(samples: np.ndarray) -> None:
    """One ShortTimeFFT there and back."""
    short = signal.ShortTimeFFT(signal.windows.hann(2_048), 512, common.RATE)
    short.istft(short.stft(samples), k1=len(samples))


def line_up(folder: Path, trip: float) -> None:
    with Recording(folder / "part 1.wav") as lead, Recording(folder / "part 2.wav") as part:
        surveys = survey_recording(lead), survey_recording(part)
        spent = common.median_time(lambda: find_against(part, surveys[1], surveys[0], 0.0), 3)
    print(f"find the words of a part in the lead {spent / trip:.2f} round trips  (aim: 1)")


def chain() -> None:
    rough = RoughChain(common.RATE, STARTS["up front and bright"])
    noise = np.random.default_rng(0).standard_normal((20 * common.RATE, 2)).astype(np.float32) * 0.1
    start = time.perf_counter()
    for at in range(0, len(noise), 512):
        rough.process(noise[at : at + 512])
    print(f"the rough chain {20 / (time.perf_counter() - start):.0f} times real time")


if __name__ == "__main__":
    main()
