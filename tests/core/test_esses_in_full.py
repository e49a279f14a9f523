"""Esses by rule, across the stack, and air: against the published curve and times, and down to the samples."""

import json

import numpy as np
import pytest
import soundfile as sf
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from scipy import signal

from conftest import look, reader, write
from isophon.cli import main
from isophon.core.audio.dynamics import smoothed, static_db
from isophon.core.errors import CallError
from isophon.core.marks import Hand
from isophon.core.passes.ess.find import find
from isophon.core.passes.ess.rule import RuleCut
from isophon.core.passes.ess.settings import EssSettings
from isophon.core.render import Renderer
from isophon.core.session import edits, shaping
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.survey import survey
from voices import speak, spoken

RATE = 48_000
HOW = {"low_hz": 5_000.0, "high_hz": 0.0, "over_db": -10.0, "ratio": 4.0, "knee_db": 0.0, "range_db": 40.0,
       "attack_s": 0.005, "release_s": 0.08, "hold_s": 0.0, "ahead_s": 0.0, "turns": "band"}  # fmt: skip


def rule(frames: int, **other) -> RuleCut:
    return RuleCut(0, frames, **(HOW | other), voice=(-20.0,) * 60)


def tone(level_db, frames=2 * RATE, hz=7_000):
    return 10 ** (level_db / 20) * np.sqrt(2) * np.sin(2 * np.pi * hz * np.arange(frames) / RATE)


@pytest.mark.parametrize("ratio", [2.0, 4.0, 8.0, 100.0])
def test_the_static_curve_has_the_ratio_that_was_asked_for(ratio):
    """Giannoulis, Massberg & Reiss 2012: over the threshold 1 dB more in gives 1/R dB more out; within 10 %."""
    inside = slice(RATE // 2, RATE)
    out = []
    for level in (-24.0, -16.0):
        sung = tone(level)
        clean = Renderer(reader(sung), RATE, len(sung)).cleaned((rule(len(sung), ratio=ratio),), 0, len(sung))[0]
        out.append(20 * np.log10(np.std(clean[inside])))
    assert (out[1] - out[0]) / 8 == pytest.approx(1 / ratio, abs=0.1 * max(1 / ratio, 0.1))
    quiet = tone(-45.0)
    assert np.array_equal(Renderer(reader(quiet), RATE, len(quiet)).cleaned((rule(len(quiet)),), 0, len(quiet))[0],
                          quiet.astype(np.float32))  # fmt: skip


def test_a_soft_knee_is_the_published_parabola():
    over, knee, ratio = np.array([-6.0, -3.0, 0.0, 3.0, 6.0]), 8.0, 4.0
    expected = [0.0, 0.75 * 1.0**2 / 16, 0.75 * 4.0**2 / 16, 0.75 * 7.0**2 / 16, 0.75 * 6.0]
    assert static_db(over, ratio, knee) == pytest.approx(expected)


def test_attack_hold_and_release_take_their_times():
    """63 % of the way after one time constant, within 20 %."""
    tick = 0.00025
    wanted = np.concatenate([np.zeros(400), np.full(4_000, 12.0), np.zeros(4_000)])
    taken = smoothed(wanted, tick, 0.010, 0.100, 0.050)
    up = (np.argmax(taken >= 0.632 * 12) - 400) * tick
    down = (np.argmax(taken[4_400:] <= 0.368 * 12)) * tick
    assert up == pytest.approx(0.010, rel=0.2) and down == pytest.approx(0.050 + 0.100, rel=0.2)
    assert not taken[:400].any() and taken[-1] < 0.01


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 95_000), st.integers(1, 20_000), st.sampled_from(["band", "above", "voice"]))
def test_the_rule_gives_the_same_samples_in_any_block(start, frames, turns):
    rng = np.random.default_rng(1)
    samples = rng.standard_normal(96_000) * 0.02 * (1 + 20 * (np.arange(96_000) // 9_600 % 3 == 1))
    plan = (rule(96_000, release_s=0.02, turns=turns, ahead_s=0.002, hold_s=0.005),)
    whole = Renderer(reader(samples), RATE, 96_000).cleaned(plan, 0, 116_000)
    alone = Renderer(reader(samples), RATE, 96_000).cleaned(plan, start, frames)
    assert np.abs(alone - whole[:, start : start + frames]).max() < 2e-5 * np.abs(samples).max()


def band(samples, rate):
    return signal.sosfiltfilt(signal.butter(6, (4_000, 11_000), "band", fs=rate, output="sos"), samples)


def test_esses_that_meet_the_leads_are_taken_away_and_others_stay(demo, tmp_path):
    """The demo's high harmony sings the lead's words, some ms late (its labels)."""
    take, lead = demo.parent / "High harmony.wav", demo.parent / "Lead.wav"
    common = ["--role", "harmony", "--lead", str(lead), "--only", "ess", "--quiet", "--set", "ess.stack=drop",
              "--set", "ess.ceiling_db=12", "--set", "ess.usual_db=24"]  # fmt: skip
    assert main(["clean", str(take), *common, "--depth", "32f", "--out", str(tmp_path / "o"), "--labels"]) == 0
    sung, rate = sf.read(take)
    clean = sf.read(tmp_path / "o" / "High harmony.clean.wav")[0]
    rows = (tmp_path / "o" / "High harmony.marks.tsv").read_text().splitlines()
    told = [row for row in rows if row.split("\t")[2].split()[1] in ("s", "sh")]
    gone = [tuple(map(float, line.split("\t")[:2])) for line in told if "change -24" in line]
    assert len(gone) >= 0.9 * len(told) > 8
    for start, end in gone:
        inside = slice(round((start + 0.03) * rate), round((end - 0.03) * rate))
        before, after = (np.mean(band(x, rate)[inside] ** 2) for x in (sung, clean))
        assert 10 * np.log10(before / after) > 18
    outside = np.ones(len(sung), bool)
    for start, end in gone:
        outside[round((start - 0.02) * rate) : round((end + 0.02) * rate)] = False
    assert np.abs(clean - sung)[outside].max() < 1e-6, "vowels are left bit for bit"


def test_find_tells_partners_and_lateness(demo, capsys):
    take, lead = demo.parent / "High harmony.wav", demo.parent / "Lead.wav"
    assert (
        main(["find", str(take), "--role", "harmony", "--lead", str(lead), "--only", "ess", "--json", "--quiet"]) == 0
    )
    marks = [m for m in json.loads(capsys.readouterr().out)["marks"] if m["sound"] in ("s", "sh")]
    late = [m["late_ms"] for m in marks if m["partner_s"] is not None]
    assert len(late) >= 0.9 * len(marks) and 0 < np.median(late) < 80
    assert all(-50 < ms < 120 for ms in sorted(late)[1:-1]), "one ending is held, one word early"


def test_each_sound_has_a_ceiling_of_its_own_and_t_and_f_stay_unless_they_are_asked_for():
    """As labelled by espeak-ng's own events, whose T's and F's the finder tells from its S's."""
    samples, rate, _ = speak("en-us", "She sells six chess sets. The thief fell off the fence. Take two cups to Tom.")
    two = np.atleast_2d(samples)
    marks = tuple(find(reader(two), survey([two], rate, two.shape[1])))
    how = EssSettings(ceiling_db=-20.0, usual_db=0.0)

    def changed(**other) -> dict[str, float]:
        part = Part("part-1", "take", Source("", rate, 1, len(samples)), marks=marks, found=True, voice_lufs=-20.0,
                    ess=replace(how, **other))  # fmt: skip
        sounds = {m.sound for m in marks}
        return {s: sum(part.change(m) for m in marks if m.sound == s and m.confidence >= how.sure) for s in sounds}

    plain = changed()
    assert plain["s"] < -20 and plain["sh"] < 0 and plain["t"] == plain["f"] == 0
    milder = changed(sh_db=12.0)
    assert milder["s"] == plain["s"] and milder["sh"] > plain["sh"] + 3
    asked = changed(t_too=True, t_db=-12.0)
    assert asked["t"] < 0 and asked["f"] == 0 and asked["s"] == plain["s"]
    asked = changed(f_too=True, f_db=-12.0)
    assert asked["f"] < 0 and asked["t"] == 0 and asked["sh"] == plain["sh"]


def test_air_lifts_the_top_of_vowels_and_none_of_the_esses(demo, tmp_path):
    take = demo.parent / "Lead.wav"
    call = ["clean", str(take), "--only", "ess", "--quiet", "--depth", "32f", "--set", "ess.ceiling_db=12",
            "--set", "ess.usual_db=24", "--set", "ess.air_db=6", "--set", "ess.air_hz=6000", "--labels"]  # fmt: skip
    assert main([*call, "--out", str(tmp_path / "o")]) == 0
    sung, rate = sf.read(take)
    clean = sf.read(tmp_path / "o" / "Lead.clean.wav")[0]
    spans = [tuple(map(float, line.split("\t")[:2])) for line in
             (tmp_path / "o" / "Lead.marks.tsv").read_text().splitlines()]  # fmt: skip
    top = signal.butter(6, 10_000, "high", fs=rate, output="sos")
    lifted, plain = (signal.sosfilt(top, x) for x in (clean, sung))
    inside = np.zeros(len(sung), bool)
    near = inside.copy()
    for start, end in spans:
        inside[round((start + 0.005) * rate) : round((end - 0.005) * rate)] = True
        near[round((start - 0.05) * rate) : round((end + 0.05) * rate)] = True
    assert np.abs(clean - sung)[inside].max() < 1e-6
    assert 10 * np.log10(np.mean(lifted[~near] ** 2) / np.mean(plain[~near] ** 2)) == pytest.approx(6.0, abs=1.0)


def test_a_whistle_in_an_ess_gets_a_cut_of_its_own(tmp_path):
    """A line of 7 kHz, 20 dB over the hiss around it, put into one S: it comes down, the rest of that S does not."""
    samples, rate, _ = spoken("de")
    marks = [m for m in look(samples, rate)[1] if not m.voiced and m.end - m.start > 0.09 and m.confidence > 0.9]
    assert not any(m.whistle_hz for m in marks), "a plain S whistles"
    one = marks[2]
    inside = slice(round(one.start * rate), round(one.end * rate))
    time = np.arange(inside.stop - inside.start) / rate
    whistling = samples.copy()
    whistling[inside] += 0.7 * np.std(samples[inside]) * np.sin(2 * np.pi * 7_000 * time) * np.hanning(len(time)) ** 0.2
    found = next(m for m in look(whistling, rate)[1] if abs(m.start - one.start) < 0.02)
    assert found.whistle_hz == pytest.approx(7_000, abs=60) and found.whistle_db > 13
    take = write(tmp_path / "take.wav", whistling, rate, "FLOAT")
    call = ["clean", str(take), "--only", "ess", "--quiet", "--depth", "32f", "--set", "ess.ceiling_db=12"]
    assert main([*call, "--set", "ess.usual_db=24", "--out", str(tmp_path / "o")]) == 0
    clean = sf.read(tmp_path / "o" / "take.clean.wav")[0]
    middle = slice(inside.start + len(time) // 4, inside.stop - len(time) // 4)
    spectra = [10 * np.log10(signal.welch(x[middle], rate, nperseg=512)[1] + 1e-20) for x in (whistling, clean)]
    hz = np.fft.rfftfreq(512, 1 / rate)
    change = spectra[1] - spectra[0]
    rest = (hz > 8_500) | ((hz < 5_800) & (hz > 300))  # there is next to nothing of an S below
    assert change[np.argmin(np.abs(hz - 7_000))] < -4 and np.abs(change[rest]).max() < 1.0
    outside = np.ones(len(samples), bool)
    outside[inside.start - round(0.04 * rate) : inside.stop + round(0.4 * rate)] = False
    assert np.abs(clean - whistling)[outside].max() < 1e-5


def test_marks_are_split_joined_and_changed_along_their_time(tmp_path):
    samples, rate, _ = spoken("de")
    marks = look(samples, rate)[1]
    take = write(tmp_path / "take.wav", samples, rate, "FLOAT")
    part = Part("part-1", "take", Source(str(take), rate, 1, len(samples)), marks=marks, found=True, voice_lufs=-20.0,
                ess=EssSettings(ceiling_db=12.0, usual_db=24.0))  # fmt: skip
    session = Session("s", (part,))
    one = max((m for m in marks if not m.voiced), key=lambda m: m.end - m.start)
    middle = (one.start + one.end) / 2
    later = replace(one, start=middle, hand=Hand())
    parted, name = shaping.split(edits.set_changes(session, "part-1", {one.id: -6.0}), "part-1", one, middle, later)
    spans = {m.id: m.span for m in parted.parts[0].marks if m.id in (one.id, name)}
    assert spans[one.id] == pytest.approx((one.start, middle), abs=1e-4) and spans[name][0] == pytest.approx(
        middle, abs=1e-4
    )
    joined = shaping.join(parted, "part-1", [one.id, name]).parts[0]
    assert joined.mark(one.id).span == pytest.approx(one.span, abs=1e-4) and joined.mark(name) is None
    shaped = shaping.set_shape(session, "part-1", [one.id], ((0.0, 0.0), (0.5, -20.0), (1.0, 0.0))).parts[0]
    clean = Renderer(reader(samples[None]), rate, len(samples)).cleaned(shaped.plan, 0, len(samples))[0]
    top = signal.butter(4, 4_000, "high", fs=rate, output="sos")
    before, after = (signal.sosfiltfilt(top, x) for x in (samples, clean))
    levels = []
    for share in (0.12, 0.5, 0.88):
        at = round((one.start + share * (one.end - one.start)) * rate)
        near = slice(at - round(0.006 * rate), at + round(0.006 * rate))
        levels.append(10 * np.log10(np.mean(after[near] ** 2) / np.mean(before[near] ** 2)))
    assert levels[1] < -14 and levels[0] > -8 and levels[2] > -8
    with pytest.raises(CallError):
        shaping.split(session, "part-1", one, one.start + 0.002, later)
