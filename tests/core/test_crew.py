"""The workers and what it keeps: what matters first comes first, nothing is measured twice, one failure stops none."""

import json
import os
import signal
import subprocess
import sys
import threading
from pathlib import Path

import numpy as np
import pytest

from conftest import look, write
from isophon.core.audio.files import Recording
from isophon.core.audio.threads import ahead, at_once, cores
from isophon.core.finding import survey_recording
from isophon.core.forking import WORKER, Forker, forker
from isophon.core.takes import cache as take_cache
from isophon.core.work import worker
from isophon.core.work import workers as work
from isophon.core.work.analysis import AnalysisRequest
from isophon.core.work.leak_learning import CueFile, Lesson, learn
from isophon.core.work.messages import Done, Look, Measure, Wake, decode_reply, encode
from isophon.core.work.workers import Task, Workers
from voices import spoken


class Log:
    def __init__(self):
        self.rows, self.ended = [], threading.Semaphore(0)

    def task(self, request, rank=0.0):
        def told(what, value):
            self.rows.append((request.path, what, value))
            if what != "progress":
                self.ended.release()

        return Task(request, told, rank)

    def wait(self, count):
        for _ in range(count):
            assert self.ended.acquire(timeout=60)

    def outcomes(self):
        return {Path(path).name: (what, value) for path, what, value in self.rows if what != "progress"}


@pytest.fixture
def workers():
    workers = Workers(hands=1)
    yield workers
    workers.close()


@pytest.fixture
def voice(tmp_path):
    samples, rate, _ = spoken("de")
    return write(tmp_path / "voice.wav", samples, rate, "FLOAT")


def test_a_worker_measures_what_the_process_itself_measures_and_errors_stop_none(workers, voice, tmp_path):
    (tmp_path / "list.wav").write_text("eggs, milk")
    bad = np.zeros(48_000, np.float32)
    bad[30_000] = np.nan
    write(tmp_path / "nan.wav", bad, 48_000, "FLOAT")
    log = Log()
    for name in ("list.wav", "gone.wav", "nan.wav", "voice.wav"):
        workers.submit(log.task(Measure(path=str(tmp_path / name))))
    log.wait(4)
    outcomes = log.outcomes()
    assert outcomes["voice.wav"][0] == "done"
    for name, words in (("list.wav", "is not audio"), ("gone.wav", "no such file"), ("nan.wav", "not numbers")):
        assert outcomes[name][0] == "failed" and words in outcomes[name][1]
    kept = take_cache.kept_survey(take_cache.place_of(voice))
    samples, rate, _ = spoken("de")
    found, marks = look(samples, rate)
    assert (
        tuple(m for m in kept.found.marks if m.kind == "ess" and m.sound in ("s", "sh")) == tuple(marks)
        and kept.survey.voice_lufs == found.voice_lufs
    )
    assert np.array_equal(kept.survey.k_power, found.k_power) and isinstance(kept.survey.bands, np.memmap)


def test_what_matters_more_is_done_first(workers, voice, tmp_path):
    log = Log()
    for i in range(5):
        write(tmp_path / f"{i}.wav", np.zeros(9_600) + i / 10, 48_000)
    tasks = [log.task(Look(path=str(tmp_path / f"{i}.wav")), rank=9 - i) for i in range(5)]
    workers.submit(log.task(Measure(path=str(voice), again=True), -1))
    for task in tasks:
        workers.submit(task)
    workers.prefer(lambda task: task is tasks[2], -0.5)
    log.wait(6)
    order = [Path(path).name for path, what, _ in log.rows if what == "done"]
    assert order == ["voice.wav", "2.wav", "4.wav", "3.wav", "1.wav", "0.wav"]


def test_work_is_cancelled_and_goes_on_after_a_killed_worker(workers, voice, tmp_path):
    rng = np.random.default_rng(0)
    long = write(tmp_path / "long.wav", rng.standard_normal(48_000 * 60) * 0.01, 48_000)
    log = Log()
    first, second = (log.task(Measure(path=str(path), again=True)) for path in (long, voice))
    workers.submit(first)
    workers.submit(second)
    workers.cancel([first, second])
    log.wait(2)
    assert {what for what, _ in log.outcomes().values()} == {"cancelled"}
    third = log.task(Measure(path=str(long), again=True))
    workers.submit(third)
    while not any(what == "progress" for _, what, _ in log.rows):
        threading.Event().wait(0.01)
    os.kill(workers._running[0][1].pid, signal.SIGKILL)
    log.wait(1)
    assert log.outcomes()["long.wav"][0] == "failed"
    workers.submit(log.task(Look(path=str(voice))))
    log.wait(1)
    assert log.outcomes()["voice.wav"][0] == "done"
    assert not list(take_cache.place_of(long).parent.glob("*/.*")), "half-written measurements were left"


def test_a_worker_that_does_not_start_or_talks_nonsense_fails_its_task_and_the_next_goes_on(
    workers, voice, monkeypatch
):
    log, start = Log(), work._start
    nonsense = [sys.executable, "-c", "input(); print('{\"progress\": [', flush=True); input()"]
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE}
    for broken in (lambda first: None, lambda first: subprocess.Popen(nonsense, **pipes)):
        monkeypatch.setattr(work, "_start", broken)
        workers.submit(log.task(Look(path=str(voice))))
        log.wait(1)
        assert log.outcomes().pop("voice.wav")[0] == "failed"
        log.rows.clear()
    monkeypatch.setattr(work, "_start", start)
    workers.submit(log.task(Look(path=str(voice))))
    log.wait(1)
    assert log.outcomes()["voice.wav"][0] == "done"


def test_the_first_worker_has_its_share_of_a_busy_machine(voice):
    log, workers = Log(), Workers(hands=2)
    for i in range(2):
        workers.submit(log.task(Measure(path=str(voice), again=True), rank=i))
    while len(workers._running) < 2 or not any(what == "progress" for _, what, _ in log.rows):
        threading.Event().wait(0.01)
    policies = {number: os.sched_getscheduler(process.pid) for number, (_, process) in workers._running.items()}
    log.wait(2)
    workers.close()
    assert policies[0] == os.SCHED_OTHER


def test_what_was_measured_without_a_leak_serves_no_session_that_knows_of_none(voice, tmp_path):
    samples, rate, _ = spoken("de")
    rng = np.random.default_rng(4)
    feed = np.convolve(rng.standard_normal(len(samples)), np.hanning(9), "same").astype(np.float32) * 0.05
    take = write(tmp_path / "take.wav", samples + 0.5 * feed, rate, "FLOAT")
    cue = write(tmp_path / "cue.wav", feed, rate, "FLOAT")
    place = take_cache.place_of(take)
    with Recording(take) as recording:
        leak = learn(recording, Lesson((CueFile(str(cue)),)), survey_recording(recording)).facts
    assert leak.key
    without = worker.measure(take, True, lambda f: None, AnalysisRequest(leak=leak))
    assert without and take_cache.kept_survey(place) is None
    worker.measure(take, False, lambda f: None)
    sung, dry = take_cache.kept_survey(place), take_cache.kept_survey(place, without)
    assert (sung.heard_without, dry.heard_without) == ("", without)
    assert not np.array_equal(sung.survey.k_power, dry.survey.k_power)


def test_a_changed_file_is_measured_anew_and_damage_is_noticed(voice):
    place = take_cache.place_of(voice)
    worker.look(voice, lambda f: None)
    worker.measure(voice, False, lambda f: None)
    stamp = (place / "survey" / "result.json").stat().st_mtime_ns
    worker.measure(voice, False, lambda f: None)
    assert (place / "survey" / "result.json").stat().st_mtime_ns == stamp
    told = json.loads((place / "survey" / "result.json").read_text())
    (place / "survey" / "result.json").write_text(json.dumps(told)[:-40])
    assert take_cache.kept_survey(place) is None
    worker.measure(voice, False, lambda f: None)
    head = (place / "survey" / "k_power.npy").read_bytes()
    text = b"{'descr': '''"  # does not end
    (place / "survey" / "k_power.npy").write_bytes(head[:10] + text + head[10 + len(text) :])
    assert take_cache.kept_survey(place) is None
    (place / "scan" / "wave-0.npy").write_bytes(b"")
    assert take_cache.kept_scan(place) is None
    worker.measure(voice, False, lambda f: None)
    assert take_cache.kept_survey(place) is not None
    samples, rate, _ = spoken("es")
    write(voice, samples, rate, "FLOAT")
    assert take_cache.place_of(voice) != place and take_cache.kept_survey(take_cache.place_of(voice)) is None


def test_old_measurements_make_room(tmp_path):
    for i in range(4):
        (tmp_path / str(i) / "scan").mkdir(parents=True)
        (tmp_path / str(i) / "scan" / "x").write_bytes(b"0" * 1_000)
        (tmp_path / str(i) / "isophon.sign").touch()
        os.utime(tmp_path / str(i), (i, i))
    (tmp_path / "letters").mkdir()
    (tmp_path / "letters" / "dear").write_bytes(b"0" * 9_000)
    take_cache.make_room(tmp_path, 2_500)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["2", "3", "letters"]


def test_work_is_shared_out_within_work_and_an_error_ends_it():
    def row(i):
        return at_once(lambda j: 10 * i + j, range(4))

    assert at_once(row, range(50)) == [[10 * i + j for j in range(4)] for i in range(50)]
    begun = []

    def third_fails(i):
        begun.append(i)
        threading.Event().wait(0.01)
        if i == 3:
            raise ValueError("three")

    with pytest.raises(ValueError, match="three"):
        at_once(third_fails, range(1_000))
    assert len(begun) <= 4 + 2 * cores()
    assert at_once(lambda a, b: a - b, [5, 7], [1, 2]) == [4, 5]


def test_work_ahead_keeps_its_order_and_ends_where_nobody_wants_more():
    asked = []

    def items():
        for i in range(1_000):
            asked.append(i)
            yield i

    def slow_at_first(i):
        threading.Event().wait(0.05 if i == 0 else 0)
        if i == 500:
            raise ValueError("five hundred")
        return 2 * i

    results = ahead(slow_at_first, items())
    assert [next(results) for _ in range(100)] == list(range(0, 200, 2))
    results.close()
    assert len(asked) <= 100 + cores() + 1
    with pytest.raises(ValueError, match="five hundred"):
        list(ahead(slow_at_first, items()))


def test_children_start_at_once_with_their_own_surroundings_and_end_with_the_process_that_started_them(monkeypatch):
    first = forker().start(WORKER)
    monkeypatch.setenv("ISOPHON_OF_THIS_TEST", "yes")
    second = forker().start(WORKER, ["first"])
    try:
        for child in (first, second):
            child.stdin.write(encode(Wake()))
            child.stdin.flush()
            assert decode_reply(child.stdout.readline()) == Done()
        told = [Path(f"/proc/{child.pid}/stat").read_text().rpartition(")")[2].split()[1] for child in (first, second)]
        assert told[0] == told[1] != str(os.getpid()), "both were forked from one that had loaded all"
        os.kill(int(told[0]), signal.SIGTERM)
        assert first.wait(10) == second.wait(10) == 0, "they end with it"
        third = forker().start(WORKER)
        third.stdin.close()
        assert third.wait(30) == 0 and third.poll() == 0, "and it begins anew"
        with pytest.raises(OSError):
            Forker(("no.such.module",)).start("no.such.module")
    finally:
        for child in (first, second):
            child.kill()
