"""Calls that could do harm: over inputs, on full disks, with odd names, with damaged files among whole ones."""

import errno
import json
import os
import resource
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from conftest import write
from isophon.core.session import edits, file, layout
from isophon.core.session.items import Source
from isophon.core.work import analysis
from test_cli import SRC, run
from voices import spoken

ONLY = ("--only", "rumble,ess", "--quiet")


@pytest.fixture
def take(tmp_path):
    samples, rate, _ = spoken("de")
    return write(tmp_path / "take.wav", samples[: 3 * rate], rate, "PCM_16")


def shell(*arguments, limit=None, closed=False, **more):
    """A call in a process of its own, where no file may grow over ``limit`` bytes, or standard output is ``closed``."""

    def limited():
        if closed:
            os.close(1)
        if limit is not None:
            resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))

    command = [sys.executable, "-m", "isophon", *map(os.fspath, arguments)]
    return subprocess.run(command, env={**os.environ, "PYTHONPATH": str(SRC)}, capture_output=True, text=True,
                          errors="backslashreplace", preexec_fn=limited, timeout=120, **more)  # fmt: skip


def test_no_output_takes_the_place_of_an_input(capsys, take, tmp_path):
    other = write(tmp_path / "take.clean.wav", np.zeros(30_000), 22_050, "PCM_16")  # named as a stem would be
    before = other.read_bytes()
    for more in ((other,), ("--cue", other), ("--bed", other)):
        status, _, err = run(capsys, "clean", take, *more, "--out", tmp_path, "--force", *ONLY)
        assert status == 4 and "is one of the inputs" in err and other.read_bytes() == before
    source = Source(str(other), 22_050, 1, 30_000)
    session = layout.new_session("s", [layout.Arrival("take.clean", source, "bed")])
    file.save(layout.add(session, [layout.Arrival("take", Source(str(take), 22_050, 1, sf.info(take).frames))]),
              tmp_path / "s.isophon")  # fmt: skip
    status, _, err = run(capsys, "clean", "--session", tmp_path / "s.isophon", "--out", tmp_path, "--force", *ONLY)
    assert status == 4 and "is one of the inputs" in err and other.read_bytes() == before


def test_a_foreign_report_stays(capsys, take, tmp_path):
    (tmp_path / "o").mkdir()
    for foreign in ("my notes", '{"files": "mine"}', '{"a": 1}'):
        (tmp_path / "o" / "report.json").write_text(foreign)
        status, _, err = run(capsys, "clean", take, "--out", tmp_path / "o", *ONLY)
        assert status == 4 and "no report of this program" in err
        assert (tmp_path / "o" / "report.json").read_text() == foreign
    assert run(capsys, "clean", take, "--out", tmp_path / "o", "--force", *ONLY)[0] == 0
    other = write(take.with_name("b.wav"), sf.read(take)[0], 22_050, "PCM_16")
    assert run(capsys, "clean", other, "--out", tmp_path / "o", *ONLY)[0] == 0  # our own report is added to
    rows = json.loads((tmp_path / "o" / "report.json").read_text())["files"]
    assert [row["file"] for row in rows] == ["take.wav", "b.wav"]


@pytest.mark.parametrize("value", [3e38, 1e20, -5_000.0])
def test_one_absurd_sample_is_named(capsys, tmp_path, value):
    samples, rate, _ = spoken("de")
    samples = samples.copy()
    samples[2 * rate] = value
    path = write(tmp_path / "take.wav", samples, rate, "FLOAT")
    status, _, err = run(capsys, "clean", path, "--out", tmp_path / "o", *ONLY)
    assert status == 3 and "far over full scale near 2.0 s" in err and not list((tmp_path / "o").glob("*.wav"))


def test_damaged_files_of_every_container_are_told(capsys, tmp_path):
    noise = (np.random.default_rng(2).standard_normal(90_000) * 0.1).astype(np.float32)
    for name, subtype, cut in (("a.ogg", "VORBIS", False), ("b.w64", "PCM_16", True), ("c.caf", "PCM_16", True),
                               ("d.mp3", "MPEG_LAYER_III", True), ("e.au", "PCM_16", True),
                               ("f.flac", "PCM_16", True)):  # fmt: skip
        sf.write(tmp_path / name, noise, 44_100, subtype=subtype)
        data = bytearray((tmp_path / name).read_bytes())
        if cut:
            del data[len(data) * 2 // 3 :]
        else:
            data[len(data) // 2] ^= 0x55
        (tmp_path / name).write_bytes(data)
        status, _, err = run(capsys, "find", tmp_path / name)
        assert status == 3 and err.startswith(f"isophon: {name}: ") and ("cut short" in err or "decoded" in err)
    sf.write(tmp_path / "g.wav", noise, 8_000, subtype="GSM610")
    status, _, err = run(capsys, "find", tmp_path / "g.wav")
    assert status == 3 and err.count("\n") == 1 and "GSM610" in err
    told = shell("find", tmp_path / "d.mp3")
    assert told.returncode == 3 and told.stderr.count("\n") == 1  # the decoder's own doubts are not heard


def test_an_ogg_without_room_to_decode_it(tmp_path, take):
    sf.write(tmp_path / "a.ogg", np.tile(sf.read(take)[0], 4), 22_050, subtype="VORBIS")
    told = shell("find", tmp_path / "a.ogg", limit=300_000)
    assert told.returncode == 4 and "has no room for it" in told.stderr and told.stderr.count("\n") == 1


def test_odd_names_in_a_batch(tmp_path, take):
    folder = os.fsencode(tmp_path)
    data = take.read_bytes()
    newline, raw, colour = (os.fsdecode(folder + b"/" + n) for n in (b"a\nb.wav", b"\xff\xfe.wav", b"\x1b[31mred.wav"))
    for name in (newline, raw):
        Path(name).write_bytes(data)
    Path(colour).write_bytes(b"no sound at all")
    long = tmp_path / ("x" * 250 + ".wav")
    long.write_bytes(data)
    told = shell("clean", newline, colour, long, raw, "y" * 300 + ".wav", "--out", tmp_path / "o", *ONLY)
    lines = told.stderr.splitlines()
    assert told.returncode == 4 and len(lines) == 3 and "\x1b" not in told.stderr
    assert "\\x1b[31mred.wav" in lines[0] and "too long" in lines[1]
    stems = {os.fsencode(p.name) for p in (tmp_path / "o").glob("*.wav")}
    assert stems == {b"a\nb.clean.wav", b"\xff\xfe.clean.wav"}
    rows = json.loads((tmp_path / "o" / "report.json").read_text())["files"]
    failed = {row["file"][-9:] for row in rows if "error" in row}
    assert failed == {"1mred.wav"[-9:], "xxxxx.wav", "yyyyy.wav"} and len(rows) == 5
    assert [row["file"] for row in rows] == sorted(row["file"] for row in rows)
    told = shell("find", raw, *ONLY)
    assert told.returncode == 0 and "\\udcff\\udcfe.wav" in told.stdout


def test_several_at_once_are_the_same_as_one_after_the_other(tmp_path, take):
    samples, rate = sf.read(take)
    names = [write(tmp_path / f"{n}.wav", np.tile(samples, 1 + i), rate) for i, n in enumerate("dacb")]
    one = shell("clean", *names, "--out", tmp_path / "one", "--jobs", "1", "--json", *ONLY)
    all_ = shell("clean", *names, "--out", tmp_path / "all", "--jobs", "3", "--json", *ONLY)
    assert one.stdout == all_.stdout and [r["file"] for r in json.loads(one.stdout)["files"]] == [
        *map("{}.wav".format, "abcd")
    ]
    for path in (tmp_path / "one").glob("*.wav"):
        assert path.read_bytes() == (tmp_path / "all" / path.name).read_bytes()


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_several_at_once_are_stopped_together(tmp_path, take, number):
    """Interrupted, nothing is half-written and nobody left behind."""
    samples, rate = sf.read(take)
    long = [write(tmp_path / f"long {i}.wav", np.tile(samples, 12), rate) for i in range(4)]
    command = [sys.executable, "-m", "isophon", "clean", *map(str, long), "--out", str(tmp_path / "cut"), "--jobs", "2"]
    process = subprocess.Popen(command, env={**os.environ, "PYTHONPATH": str(SRC)}, stderr=subprocess.PIPE,
                               start_new_session=True)  # fmt: skip
    wait_until = time.monotonic() + 60
    while not list((tmp_path / "cut").glob(".isophon-*")) and time.monotonic() < wait_until:
        time.sleep(0.02)
    os.killpg(process.pid, number) if number == signal.SIGINT else process.send_signal(number)
    assert process.wait(timeout=30) == 130 and b"Traceback" not in process.stderr.read()
    assert not list((tmp_path / "cut").glob(".isophon-*"))
    with pytest.raises(ProcessLookupError):
        os.killpg(process.pid, 0)


def test_the_processes_of_a_killed_run_end_with_it(tmp_path, take):
    samples, rate = sf.read(take)
    long = [write(tmp_path / f"long {i}.wav", np.tile(samples, 12), rate) for i in range(4)]
    command = [sys.executable, "-m", "isophon", "clean", *map(str, long), "--out", str(tmp_path / "cut"), "--jobs", "2"]
    process = subprocess.Popen(command, env={**os.environ, "PYTHONPATH": str(SRC)}, start_new_session=True)
    wait_until = time.monotonic() + 60
    while not list((tmp_path / "cut").glob(".isophon-*")) and time.monotonic() < wait_until:
        time.sleep(0.02)
    process.kill()
    process.wait()
    wait_until = time.monotonic() + 20
    with pytest.raises(ProcessLookupError):
        while time.monotonic() < wait_until:
            os.killpg(process.pid, 0)
            time.sleep(0.1)
    assert not list((tmp_path / "cut").glob(".isophon-*"))


def test_what_a_killed_run_left_is_cleared_and_what_another_writes_is_not(capsys, take, tmp_path):
    import fcntl

    out = tmp_path / "o"
    out.mkdir()
    left, busy, mine = (out / f".isophon-{n}.part.wav" for n in ("abcdefgh", "12345678", "holiday plans"))
    for path in (left, busy, mine):
        path.write_bytes(b"half")
    with busy.open() as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        assert run(capsys, "clean", take, "--out", out, *ONLY)[0] == 0
    assert not left.exists() and busy.exists() and mine.exists()


def test_full_disks(capsys, tmp_path, take):
    """Status 4, one line, nothing half-written; with standard output too."""
    told = shell("clean", take, "--out", tmp_path / "o", *ONLY, limit=50_000)
    assert told.returncode == 4 and told.stderr.count("\n") == 1 and not list((tmp_path / "o").iterdir())
    with open("/dev/full", "w") as full:
        command = [sys.executable, "-m", "isophon", "find", str(take), "--json", *ONLY]
        done = subprocess.run(command, env={**os.environ, "PYTHONPATH": str(SRC)}, stdout=full, stderr=subprocess.PIPE)
    assert done.returncode == 4 and done.stderr.count(b"\n") == 1 and b"standard output" in done.stderr
    assert "File too large" in told.stderr and "System error" not in told.stderr
    status, _, err = run(capsys, "clean", take, "--out", "/proc/isophon", *ONLY)
    assert status == 4 and err.count("\n") == 1
    assert run(capsys, "clean", take, "--out", "", *ONLY)[0] == 2


def test_a_recording_that_changes_while_it_is_read_is_refused(capsys, take, tmp_path, monkeypatch):
    """Overwritten in place, by the same number of samples, between finding its marks and writing its stem."""
    samples, rate = sf.read(take)
    for keep_time in (False, True):
        write(take, samples, rate, "PCM_16")
        before, find = take.stat(), analysis.find_all

        def spoiled(*arguments, find=find, before=before, keep_time=keep_time):
            found = find(*arguments)
            with sf.SoundFile(take, "r+") as file:
                file.write(samples[: rate // 2][::-1])
            if keep_time:
                os.utime(take, ns=(before.st_atime_ns, before.st_mtime_ns))
            return found

        monkeypatch.setattr(analysis, "find_all", spoiled)
        status, _, err = run(capsys, "clean", take, "--out", tmp_path / "out", *ONLY)
        monkeypatch.undo()
        assert status == 3 and "was changed while it was read" in err and err.count("\n") == 1
        assert not list((tmp_path / "out").glob("*.wav"))


def test_paths_that_cannot_be_are_told_in_one_line(capsys, take, tmp_path):
    (tmp_path / "itself.wav").symlink_to("itself.wav")
    for bad in (tmp_path / "itself.wav", tmp_path / ("x" * 300) / "take.wav", tmp_path / "a\0b.wav"):
        for call in (["find", bad], ["clean", bad, "--out", tmp_path / "o"], ["clean", take, "--out", bad]):
            status, _, err = run(capsys, *call, "--only", "rumble", "--quiet")
            assert status in (3, 4) and err.count("\n") == 1 and "inside Isophon" not in err, (call, err)
    session = layout.new_session("s", [layout.Arrival("take", Source(str(take), 22_050, 1, sf.info(take).frames))])
    path = tmp_path / "s.isophon"
    file.save(session, path)
    values = json.loads(path.read_text())
    for name, value in (("path", "itself.wav"), ("path", "\ud800.wav"), ("path", "a\0b.wav"), ("path", "y" * 300),
                        ("path", "bytes:%00"), ("time_reference", 1 << 62), ("time_reference", 10**30)):  # fmt: skip
        values["session"]["parts"][0]["source"] = {"path": str(take), "sample_rate": 22_050, "channels": 1,
                                                   "frames": 10, name: value}  # fmt: skip
        path.write_text(json.dumps(values))
        status, _, err = run(capsys, "clean", "--session", path, "--out", tmp_path / "o", *ONLY)
        assert status == 3 and err.count("\n") == 1 and "inside Isophon" not in err, (name, value, err)


def test_what_may_not_be_read_is_an_input_that_cannot_be_used(capsys, tmp_path, monkeypatch):
    """Status 3, as told by the system: tests may run as somebody who may read everything."""
    stat = Path.stat

    def refused(self, **more):
        if "locked" in self.parts:
            raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), str(self))
        return stat(self, **more)

    monkeypatch.setattr(Path, "stat", refused)
    status, _, err = run(capsys, "find", tmp_path / "locked" / "take.wav", *ONLY)
    assert status == 3 and "Permission denied" in err and err.count("\n") == 1


@pytest.mark.parametrize("after_s", [0.4, 1.1])
def test_told_to_end_while_the_window_loads_it_ends(tmp_path, after_s):
    environment = {**os.environ, "PYTHONPATH": str(SRC), "XDG_STATE_HOME": str(tmp_path)}
    process = subprocess.Popen([sys.executable, "-m", "isophon"], env=environment, stderr=subprocess.PIPE, text=True)
    time.sleep(after_s)
    process.terminate()
    # −15: before a line of ours ran
    assert process.wait(timeout=30) in (0, 130, -signal.SIGTERM)
    assert "Traceback" not in process.stderr.read()


def test_standard_output_may_be_closed(take):
    done = shell("find", take, "--json", *ONLY, closed=True)
    assert done.returncode == 4 and done.stderr.count("\n") == 1 and "is closed" in done.stderr


def test_two_at_once_into_one_new_folder_leave_one_and_nothing_else(capsys, take, tmp_path, monkeypatch):
    from isophon.core.handover import bundle

    begin = bundle.begin

    def other_is_first(target):
        made = begin(target)
        target.folder.mkdir()
        (target.folder / "theirs").touch()
        return made

    monkeypatch.setattr(bundle, "begin", other_is_first)
    status, _, err = run(capsys, "clean", take, "--out", tmp_path / "out", "--whole", *ONLY)
    assert status == 4 and "is there already" in err
    assert [p.name for p in tmp_path.iterdir() if p.name != take.name] == ["out"]


def test_a_hang_up_ends_a_run_orderly_and_nohup_is_heeded(tmp_path, take):
    samples, rate = sf.read(take)
    for before, status, times in ((signal.SIG_DFL, 130, 12), (signal.SIG_IGN, 0, 4)):
        long = write(tmp_path / "long.wav", np.tile(samples, times), rate)
        out = tmp_path / f"out{status}"
        command = [sys.executable, "-m", "isophon", "clean", str(long), "--out", str(out), *ONLY]
        process = subprocess.Popen(command, env={**os.environ, "PYTHONPATH": str(SRC)}, stderr=subprocess.PIPE,
                                   preexec_fn=lambda how=before: signal.signal(signal.SIGHUP, how))  # fmt: skip
        wait_until = time.monotonic() + 60
        while not list(out.glob(".isophon-*")) and process.poll() is None and time.monotonic() < wait_until:
            time.sleep(0.01)
        process.send_signal(signal.SIGHUP)
        assert process.wait(timeout=60) == status and b"Traceback" not in process.stderr.read()
        assert not list(out.glob(".isophon-*"))


def test_the_same_call_writes_the_same_bytes(capsys, take, tmp_path):
    for name in ("one", "two"):
        assert run(capsys, "clean", take, "--out", tmp_path / name, "--depth", "32f", *ONLY)[0] == 0
        time.sleep(1.1)  # the time in whole seconds is another
    one, two = ((tmp_path / name / "take.clean.wav").read_bytes() for name in ("one", "two"))
    assert one == two


def test_sessions_apply_or_refuse_every_option(capsys, take, tmp_path):
    """Decisions of parts whose marks are found anew stay; settings and cards count; what cannot count is refused."""
    source = Source(str(take), 22_050, 1, sf.info(take).frames)
    session = layout.new_session("s", [layout.Arrival("A new name", source)])
    path = tmp_path / "s.isophon"
    file.save(session, path)
    base = ("clean", "--session", path, "--only", "ess", "--depth", "32f", "--quiet", "--json")
    for more in (("--role", "lead"), ("--cue", take), ("--own-click",), ("--bed", take)):
        status, _, err = run(capsys, *base, *more, "--out", tmp_path / "x")
        assert status == 2 and more[0] in err
    _, text, _ = run(capsys, *base, "--out", tmp_path / "a", "--set", "ess.ceiling_db=-20")
    row = json.loads(text)["files"][0]
    assert row["output"] == "A new name.clean.wav" and row["kinds"]["ess"]["changed"] > 2
    deepest = row["kinds"]["ess"]["deepest_change_db"]
    _, text, _ = run(capsys, *base, "--out", tmp_path / "b", "--set", "ess.ceiling_db=12", "--set", "ess.usual_db=24")
    assert json.loads(text)["files"][0]["kinds"]["ess"]["changed"] == 0 and deepest < -1
    status, text, _ = run(capsys, "find", take, "--json", "--only", "ess", "--quiet")
    first = next(m for m in json.loads(text)["marks"])
    by_hand, _ = edits.draw_mark(session, "part-1", _mark(first))
    by_hand = edits.set_changes(by_hand, "part-1", {"ess-1": -11.0})
    by_hand = edits.set_changes(by_hand, "part-1", {by_hand.parts[0].marks[0].id: -11.0})
    file.save(by_hand, path)
    _, text, _ = run(capsys, *base, "--out", tmp_path / "c", "--set", "ess.ceiling_db=12", "--set", "ess.usual_db=24")
    found = json.loads(text)["files"][0]["kinds"]["ess"]
    assert found["changed"] == 1 and found["deepest_change_db"] == -11.0 and found["count"] > 1


def _mark(row):
    from isophon.core.passes.ess.mark import EssMark

    return EssMark("ess-1", row["start_s"], row["end_s"], row["level_db"], row["standout_db"], 4_000, 9_000, 1.0)


def test_everything_twice_gives_the_same(take, tmp_path):
    """Two processes measure the same, bit for bit, hum and all."""
    t = np.arange(8 * 22_050) / 22_050
    samples = np.tile(sf.read(take)[0], 3)[: len(t)] + sum(1e-3 * np.sin(2 * np.pi * 50.2 * k * t) for k in range(1, 9))
    path = write(tmp_path / "hum.wav", samples, 22_050)
    one, other = (shell("find", path, "--json", "--quiet") for _ in range(2))
    assert one.returncode == 0 and one.stdout == other.stdout and one.stderr == ""
    assert any(row["kind"] == "hum" for row in json.loads(one.stdout)["bands"])
