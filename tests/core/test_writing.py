"""Stems out: depth, dither, all or nothing."""

import struct

import numpy as np
import pytest
import soundfile as sf
import wavinfo
from hypothesis import given
from hypothesis import strategies as st

from conftest import write
from isophon.cli import main
from isophon.core.audio import chunks
from isophon.core.audio.containers import time_reference
from isophon.core.audio.files import Recording
from isophon.core.audio.writing import quantize, write_stem
from isophon.core.errors import CallError, OutputError
from isophon.core.finding import survey_recording
from isophon.core.handover.stems import hand_over
from isophon.core.handover.target import Target
from isophon.core.session.items import Source
from isophon.core.session.model import Part


@given(st.integers(0, 2**32 - 1), st.sampled_from([16, 24]))
def test_quantized_samples_stay_within_a_step_and_on_it_if_they_were(seed, bits):
    rng = np.random.default_rng(seed)
    steps = rng.integers(-(2 ** (bits - 1)), 2 ** (bits - 1), 500)
    on_grid = (steps / 2 ** (bits - 1)).astype(np.float32)
    exact, over = quantize(on_grid[None, :], bits, rng)
    assert over == 0 and np.array_equal(exact[0] >> (32 - bits), steps)
    between = rng.uniform(-0.99, 0.99, 500).astype(np.float32)
    rounded, _ = quantize(between[None, :], bits, rng)
    error = (rounded[0] >> (32 - bits)) - between.astype(np.float64) * 2 ** (bits - 1)
    assert np.abs(error).max() < 1


def test_dither_keeps_a_tone_under_the_last_step():
    """Lipshitz, Wannamaker & Vanderkooy 1992: a dithered quantizer's mean error is zero."""
    tone = (0.4 / 2**15 * np.sin(2 * np.pi * np.arange(200_000) / 100)).astype(np.float32)
    rounded, _ = quantize(tone[None, :], 16, np.random.default_rng(3))
    heard = (rounded[0] >> 16).reshape(-1, 100).mean(axis=0)
    assert np.abs(heard - tone[:100] * 2**15).max() < 0.06


def test_failure_leaves_nothing(tmp_path):
    def breaking():
        yield np.zeros((1, 1000), np.float32)
        raise OSError(28, "No space left on device")

    with pytest.raises(OutputError, match="No space left on device"):
        write_stem(tmp_path / "a.wav", breaking(), 48_000, 1, 2000)
    assert list(tmp_path.iterdir()) == []
    write_stem(tmp_path / "a.wav", [np.full((1, 50), 0.25, np.float32)], 48_000, 1, 50)
    with pytest.raises(OutputError, match="exists already"):
        write_stem(tmp_path / "a.wav", [np.zeros((1, 50), np.float32)], 48_000, 1, 50)
    assert (sf.read(tmp_path / "a.wav")[0] == 0.25).all() and len(list(tmp_path.iterdir())) == 1
    with pytest.raises(CallError, match="FLAC"):
        write_stem(tmp_path / "a.flac", [], 48_000, 1, 0, fmt="flac", depth="32f")


def test_what_a_recordings_own_broadcast_chunk_held_is_kept(tmp_path):
    """Version 2 with UMID and loudness (EBU Tech 3285), read back with wavinfo."""
    take = write(tmp_path / "take.wav", np.random.default_rng(0).standard_normal(48_000) * 0.01, 48_000)
    body = struct.pack("<256s32s32s10s8sQH64s5h180s", b"Take 4", b"a recorder", b"ref", b"2026-02-03", b"04:05:06", 77,
                       2, bytes(range(64)), -2310, 640, -105, -1800, -1950, b"")  # fmt: skip
    chunks.append(take, b"bext" + struct.pack("<I", len(body) + 20) + body + b"A=PCM,F=48000,W=24\r\n")
    part = Part("part-1", "take", Source(str(take), 48_000, 1, 48_000))
    with Recording(take) as recording:
        found = survey_recording(recording)
        hand_over(part, recording, found, Target(tmp_path / "out"))
    told = wavinfo.WavInfoReader(str(tmp_path / "out" / "take.clean.wav")).bext
    assert told.version == 2 and told.time_reference == 77
    assert (told.loudness_value, told.loudness_range, told.max_true_peak) == (-23.1, 6.4, -1.05)
    assert (tmp_path / "out" / "take.clean.wav").read_bytes().count(bytes(range(64))) == 1
    assert told.coding_history.startswith("A=PCM,F=48000,W=24\r\n") and "T=Isophon" in told.coding_history


def test_a_stem_says_where_it_began_and_where_its_marks_are(demo, tmp_path):
    """Read back by wavinfo, and by a walk over the file after EBU Tech 3285 and the RIFF specification."""
    take = demo.parent / "Lead.wav"
    call = ["clean", str(take), "--only", "ess", "--out", str(tmp_path), "--quiet", "--cues", "--labels"]
    assert main(call) == 0
    stem = tmp_path / "Lead.clean.wav"
    info = wavinfo.WavInfoReader(str(stem))
    assert info.bext.originator == "Isophon" and "ess" in info.bext.coding_history
    assert info.bext.time_reference == (time_reference(take) or 0) == (time_reference(stem) or 0)
    told = [float(line.split("\t")[0]) for line in (tmp_path / "Lead.marks.tsv").read_text().splitlines()]
    data, names, places = stem.read_bytes(), {}, {}
    assert struct.unpack("<I", data[4:8])[0] == len(data) - 8
    at = 12
    while at < len(data):
        name, size = data[at : at + 4], struct.unpack("<I", data[at + 4 : at + 8])[0]
        body = data[at + 8 : at + 8 + size]
        if name == b"cue ":
            for i in range(struct.unpack("<I", body[:4])[0]):
                number, place = struct.unpack("<II", body[4 + 24 * i : 12 + 24 * i])
                places[number] = place
        if name == b"LIST" and body[:4] == b"adtl":
            inner = 4
            while inner < size:
                what, length = body[inner : inner + 4], struct.unpack("<I", body[inner + 4 : inner + 8])[0]
                if what == b"labl":
                    number = struct.unpack("<I", body[inner + 8 : inner + 12])[0]
                    names[number] = body[inner + 12 : inner + 8 + length].rstrip(b"\0").decode()
                inner += 8 + length + (length & 1)
        at += 8 + size + (size & 1)
    assert len(told) > 10 and [p / 48_000 for p in places.values()] == pytest.approx(told, abs=1e-4)
    assert names.keys() == places.keys() and all(name.startswith("ess ") for name in names.values())
    assert sf.info(stem).frames == sf.info(take).frames
