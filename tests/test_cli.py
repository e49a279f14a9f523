"""The command line by its contract: results, files, exit statuses, one line of error."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from conftest import write
from isophon.cli import main
from isophon.core.passes.ess.mark import EssMark
from isophon.core.passes.spot.mark import SpotMark
from isophon.core.session import adopting, edits, file, layout
from isophon.core.session.items import Source
from voices import ALSA, spoken

SRC = Path(__file__).parent.parent / "src"


@pytest.fixture
def take(tmp_path):
    samples, rate, _ = spoken("de")
    return write(tmp_path / "take.wav", samples, rate, "PCM_16")


def run(capsys, *arguments):
    status = main([str(a) for a in arguments])
    out = capsys.readouterr()
    return status, out.out, out.err


def test_find_json(capsys, take):
    status, out, err = run(capsys, "find", take, "--json", "--only", "ess", "--set", "ess.ceiling_db=-8")
    result = json.loads(out)
    assert status == 0 and err == ""
    assert result["file"] == "take.wav" and result["channels"] == 1 and result["bands"] == []
    assert result["sample_rate"] == 22_050 and result["duration_s"] == pytest.approx(sf.info(take).duration, abs=1e-3)
    assert -40 < result["voice_lufs"] < 0 and result["floor_dbfs"] < -60
    marks = result["marks"]
    assert len(marks) > 8 and [m["start_s"] for m in marks] == sorted(m["start_s"] for m in marks)
    for m in marks:
        assert m["kind"] == "ess" and m["start_s"] < m["end_s"] and 0 <= m["confidence"] <= 1
        assert m["sound"] in ("s", "sh", "t", "f") and m["change_db"] <= 0
        over = m["standout_db"] + 8
        if m["confidence"] >= 0.5 and over > 0 and m["sound"] in ("s", "sh"):
            assert m["change_db"] <= -min(over, 12) + 0.01
    changed = [m for m in marks if m["change_db"] < 0]
    assert changed and len(changed) < len(marks)


def test_clean_writes_stems_report_removed_and_labels(capsys, take, tmp_path):
    out = tmp_path / "out"
    status, text, _ = run(
        capsys, "clean", take, "--out", out, "--depth", "32f", "--removed", "--labels", "--json", "--set",
        "ess.ceiling_db=-9", "--only", "ess",
    )  # fmt: skip
    assert status == 0
    assert {p.name for p in out.iterdir()} == {"take.clean.wav", "take.removed.wav", "take.marks.tsv", "report.json"}
    sung, clean, removed = (
        sf.read(p, dtype="float32")[0] for p in (take, out / "take.clean.wav", out / "take.removed.wav")
    )
    assert len(sung) == len(clean) and sf.info(out / "take.clean.wav").samplerate == 22_050
    assert np.abs(clean + removed - sung).max() < 1e-7
    assert 0.02 < np.mean(clean != sung) < 0.4
    row = json.loads(text)["files"][0]
    assert row == json.loads((out / "report.json").read_text())["files"][0]
    ess = row["kinds"]["ess"]
    assert ess["changed"] + ess["left"] == ess["count"] == len((out / "take.marks.tsv").read_text().splitlines())
    assert ess["total_change_db"] < 0 and row["after"]["loudness_lufs"] <= row["before"]["loudness_lufs"]


@pytest.mark.parametrize(("depth", "step"), [("16", 2**-15), ("24", 2**-23), ("32f", 0)])
def test_what_no_kind_touches_comes_back(capsys, take, tmp_path, depth, step):
    skip = "rumble,hum,hiss,gap,pop,tick,breath,ess,band,spot"
    assert run(capsys, "clean", take, "--out", tmp_path / "o", "--skip", skip, "--depth", depth)[0] == 0
    sung, clean = sf.read(take)[0], sf.read(tmp_path / "o" / "take.clean.wav")[0]
    assert np.abs(sung - clean).max() == 0 or np.abs(sung - clean).max() < step


def test_stereo_flac_keeps_its_shape(capsys, tmp_path):
    samples, rate, _ = spoken("it+f1")
    path = write(tmp_path / "two.flac", np.stack([samples, -0.5 * samples]), rate, format="FLAC")
    assert run(capsys, "clean", path, "--out", tmp_path / "o", "--format", "flac", "--depth", "16")[0] == 0
    info = sf.info(tmp_path / "o" / "two.clean.flac")
    assert (info.channels, info.frames, info.subtype) == (2, len(samples), "PCM_16")


def test_a_session_is_cleaned_with_its_decisions(capsys, take, tmp_path):
    run(capsys, "find", take)
    info = sf.info(take)
    source = Source(str(take), info.samplerate, 1, info.frames)
    value = layout.new_session("s", [layout.Arrival("take", source)])
    path = tmp_path / "s.isophon"
    file.save(value, path)
    assert run(capsys, "clean", "--session", path, "--out", tmp_path / "a", "--depth", "32f")[0] == 0
    assert run(capsys, "clean", take, "--out", tmp_path / "b", "--depth", "32f")[0] == 0
    one, other = (sf.read(tmp_path / x / "take.clean.wav")[0] for x in "ab")
    assert np.array_equal(one, other)
    part = value.parts[0]
    drawn, name = edits.draw_mark(value, part.id, EssMark("", 1.0, 1.2, -20.0, 3.0, 3000.0, 9000.0, 1.0, sound="s"))
    drawn = adopting.adopt_findings(
        edits.set_changes(drawn, part.id, {name: -20}), part.id, adopting.Findings(source, (), -20.0, -80.0)
    )
    file.save(drawn, path)
    assert run(capsys, "clean", "--session", path, "--out", tmp_path / "a", "--depth", "32f", "--force")[0] == 0
    changed = np.flatnonzero(sf.read(tmp_path / "a" / "take.clean.wav")[0] != sf.read(take)[0]) / info.samplerate
    assert changed.min() > 0.97 and changed.max() < 1.23


@pytest.mark.parametrize(
    ("arguments", "status", "words"),
    [
        (["find", "take.wav", "--frobnicate"], 2, "unrecognized"), (["find"], 2, "AUDIO"), (["sing"], 2, "sing"),
        (["find", "take.wav", "--only", "esses"], 2, "'esses' is no kind"),
        (["find", "take.wav", "--set", "ess.volume=3"], 2, "no such setting"),
        (["find", "take.wav", "--set", "ess.ceiling_db=99"], 2, "out of range"),
        (["find", "take.wav", "--set", "ceiling"], 2, "KIND.SETTING=VALUE"),
        (["find", "take.wav", "--role", "drummer"], 2, "is no role"),
        (["clean", "take.wav"], 2, "--out"), (["clean", "--out", "o"], 2, "either recordings or"),
        (["clean", "take.wav", "--out", "o", "--depth", "12"], 2, "depth '12'"),
        (["clean", "take.wav", "--out", "o", "--format", "flac", "--depth", "32f"], 2, "FLAC"),
        (["find", "nothing.wav"], 3, "nothing.wav: no such file"), (["find", "."], 3, "is a folder"),
        (["find", "silence.wav"], 3, "silence.wav: no voice"), (["find", str(ALSA / "Noise.wav")], 3, "no voice"),
        (["find", "take.wav", "--card", "silence.wav"], 3, "silence.wav"), (["open", "no.isophon"], 3, "no such"),
        (["clean", "take.wav", "--out", "silence.wav/o"], 4, "cannot be written"),
    ],
)  # fmt: skip
def test_wrong_calls_and_inputs_say_so_in_one_line(capsys, take, tmp_path, monkeypatch, arguments, status, words):
    monkeypatch.chdir(tmp_path)
    write(tmp_path / "silence.wav", np.zeros(48_000), 48_000)
    got, out, err = run(capsys, *arguments)
    assert got == status and out == ""
    assert err.count("\n") == 1 and words in err and "Traceback" not in err
    assert {p.name for p in tmp_path.iterdir()} <= {"take.wav", "silence.wav", "state"}, (
        "the log aside nothing is written"
    )


def test_one_bad_file_does_not_stop_the_others(capsys, take, tmp_path):
    out = tmp_path / "o"
    missing = tmp_path / "gone.wav"
    status, text, err = run(capsys, "clean", missing, take, "--out", out, "--json")
    assert status == 3 and "gone.wav" in err and (out / "take.clean.wav").exists()
    assert ["error" in row for row in json.loads(text)["files"]] == [True, False]
    before = (out / "take.clean.wav").read_bytes()
    status, _, err = run(capsys, "clean", take, "--out", out)
    assert status == 4 and "exists already" in err and (out / "take.clean.wav").read_bytes() == before
    assert run(capsys, "clean", take, "--out", out, "--force")[0] == 0
    (tmp_path / "other").mkdir()
    twin = tmp_path / "other" / "take.wav"
    twin.write_bytes(take.read_bytes())
    status, _, err = run(capsys, "clean", take, twin, "--out", tmp_path / "p")
    assert status == 4 and "would write take.clean.wav" in err


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_interrupted_leaves_nothing(tmp_path, how):
    samples, rate, _ = spoken("de")
    long = write(tmp_path / "long.wav", np.tile(samples, 15), rate)
    out = tmp_path / "o"
    process = subprocess.Popen(
        [sys.executable, "-m", "isophon", "clean", str(long), "--out", str(out), "--depth", "32f"],
        env={**os.environ, "PYTHONPATH": str(SRC)}, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    deadline = time.time() + 60
    while time.time() < deadline and not (out.exists() and any(out.iterdir())) and process.poll() is None:
        time.sleep(0.005)
    process.send_signal(how)
    _, err = process.communicate(timeout=30)
    assert process.returncode == 130 and err.count("\n") == 1
    assert not out.exists() or list(out.iterdir()) == []


@pytest.mark.parametrize("frames", [1, 2, 100, 5000])
def test_the_shortest_files_have_no_voice(capsys, tmp_path, frames):
    path = write(tmp_path / "blip.wav", np.full(frames, 0.1), 48_000)
    assert run(capsys, "find", path)[0] == 3
    assert run(capsys, "clean", path, "--out", tmp_path / "o", "--skip", "ess", "--depth", "32f")[0] == 0
    assert np.array_equal(sf.read(path)[0], sf.read(tmp_path / "o" / "blip.clean.wav")[0])


def test_the_report_of_an_earlier_run_stays(capsys, take, tmp_path):
    other = tmp_path / "other.wav"
    other.write_bytes(take.read_bytes())
    for path in (take, other, take):
        run(capsys, "clean", path, "--out", tmp_path / "o", "--force")
    rows = json.loads((tmp_path / "o" / "report.json").read_text())["files"]
    assert [row["file"] for row in rows] == ["other.wav", "take.wav"]


def test_a_sessions_marks_are_listed_as_they_were_decided(demo, tmp_path, capsys):
    session = file.load(demo)
    part = session.parts[0]
    box = SpotMark("", 2.0, 2.5, -30.0, 0.0, 900.0, 3_000.0, 1.0)
    session, name = edits.draw_mark(session, part.id, box)
    session = edits.set_changes(session, part.id, {name: -8.0})
    path = tmp_path / "song.isophon"
    file.save(session, path)
    assert main(["find", str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert [p["name"] for p in told["parts"]] == [p.name for p in session.parts]
    assert [(m["kind"], m["start_s"], m["change_db"]) for m in told["parts"][0]["marks"]] == [("spot", 2.0, -8.0)]
    assert main(["find", str(path)]) == 0 and "not looked through yet" in capsys.readouterr().out
    assert main(["find", str(path), "--cue", "x.wav"]) == 2
