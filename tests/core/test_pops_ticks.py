"""Pops and ticks: known ones are found and undone, consonants, low voices and leaked clicks are left alone."""

import json

import numpy as np
import pytest
import soundfile as sf
import soxr
from msgspec.structs import replace
from scipy import signal

from conftest import Written, reader, write
from isophon.cli import main
from isophon.core.audio.lowrate import LowRate
from isophon.core.demo.cast import Mouth
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES
from isophon.core.demo.singer import sing
from isophon.core.demo.take import load_labels
from isophon.core.finding import find_all, survey_recording
from isophon.core.marks import Hand
from isophon.core.passes.context import LOW_HZ
from isophon.core.passes.pop.find import drawn, lows_of
from isophon.core.passes.pop.find import find as find_pops
from isophon.core.passes.pop.treat import PopCut, apply, burst_of
from isophon.core.passes.tick import damage
from isophon.core.passes.tick.find import find as find_ticks
from isophon.core.passes.tick.mark import TickMark
from isophon.core.passes.tick.residual import ORDER, _models
from isophon.core.passes.tick.top import telling_rate
from isophon.core.passes.tick.treat import Repair, interpolated, patch_of, treatments
from isophon.core.render import TILE, Renderer
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from isophon.core.survey import VOICED
from voices import ALSA, VOICES, alsa, compressed, spoken

RATE = 48_000


def pops_of(samples, rate):
    take = Written(samples, rate)
    found = survey_recording(take)
    return find_pops(lows_of(LowRate(take.read, rate, take.frames, 1, LOW_HZ)), found)


def ticks_of(samples, rate):
    take = Written(samples, rate)
    return find_ticks(take.read, survey_recording(take))


def loudness(samples):
    return np.sqrt(np.mean(samples[np.abs(samples) > 0.05 * np.abs(samples).max()] ** 2))


def thump(seconds, rate, rng):
    """A blow of air: a swing that falls from 75 to 30 Hz with noise on it, rising in 5 ms."""
    time = np.arange(round(seconds * rate)) / rate
    swing = np.sin(2 * np.pi * (75 * time - 140 * time**2) + rng.uniform(0, 6))
    return swing * (1 - np.exp(-time / 0.005)) * np.exp(-time / 0.035) * np.minimum(1, (seconds - time) / 0.01)


def click(rate, rng):
    """A mouth click: a damped ring of 0.2 to 1 ms between 2 and 7 kHz."""
    decay = rng.uniform(0.0002, 0.0008)
    time = np.arange(round(5 * decay * rate) + 3) / rate
    ring = np.sin(2 * np.pi * rng.uniform(2_000, min(7_000, 0.4 * rate)) * time) * np.exp(-time / decay)
    return ring / np.abs(ring).max()


def spoiled(samples, rate, places, sound):
    out, spans = samples.astype(float), []
    for at in places:
        piece = sound()
        first = round(at * rate)
        out[first : first + len(piece)] += piece[: len(out) - first]
        spans.append((at, at + len(piece) / rate))
    return out.astype(np.float32), spans


def hits(marks, spans):
    return sum(any(m.start < end and m.end > start for m in marks) for start, end in spans)


@pytest.mark.parametrize("name", ["Lead", "Low harmony"])
def test_the_demos_pops_are_found_at_their_plosives(demo, name):
    samples, rate = sf.read(demo.parent / f"{name}.wav", dtype="float32")
    marks = pops_of(samples, rate)
    spans = [(x.start, x.end) for x in load_labels(demo.parent, name) if x.sound == "pop"]
    assert len(spans) == 12 and hits(marks, spans) == 12 and len(marks) == 12


def test_a_clean_or_low_voice_has_no_sure_pops():
    """Recorded bumps under the voice, low notes, and stops are no pops (common practice)."""
    for voice in VOICES:
        assert not pops_of(*spoken(voice)[:2]), voice
    for name in sorted(path.stem for path in ALSA.glob("*.wav")):
        assert all(m.confidence < 0.5 for m in pops_of(*alsa(name))), name
        samples, rate = alsa(name)
        assert all(m.confidence < 0.5 for m in pops_of(compressed(samples, rate, 10.0), rate)), f"{name}, compressed"
    bass, _ = sing(VERSES[:3], BEAT_S, BREATH_S, Mouth(0.95, -14, 4_800, seed=3))
    assert not pops_of(bass, RATE)


@pytest.mark.parametrize("voice", ["en-us+f3", "de", "it+m4"])
def test_a_pops_burst_goes_and_the_voice_stays(voice):
    clean, rate, phonemes = spoken(voice)
    rng = np.random.default_rng(2)
    stops = [a for a, b, p in phonemes if p.strip("'") in ("p", "b", "t", "k", "d")]
    places = [a for i, a in enumerate(stops) if i == 0 or a - stops[i - 1] > 0.4][:5]
    loud = loudness(clean)
    noisy, spans = spoiled(clean, rate, places, lambda: thump(0.14, rate, rng) * loud * 1.5)
    marks = pops_of(noisy, rate)
    assert hits(marks, spans) == len(spans) == len(marks)
    take = reader(noisy)
    out = noisy[None]
    for mark in marks:
        first, last = round(mark.start * rate), round((mark.end + 0.02) * rate)
        cut = PopCut(first, last, (round(0.02 * rate),) * 2, 0.0, mark.high_hz, rate, mark.end - mark.start)
        out = apply(out, 0, [(cut, burst_of(take, cut))])
    near = np.zeros(len(clean), bool)
    for start, end in spans:
        near[round(start * rate) : round(end * rate)] = True
    low = signal.butter(4, [20, 300], "band", fs=rate, output="sos")
    before, after = (np.mean(signal.sosfiltfilt(low, x - clean)[near] ** 2) for x in (noisy, out[0]))
    assert 10 * np.log10(after / before) < -12
    high = signal.butter(10, 520, "high", fs=rate, output="sos")
    assert np.mean(signal.sosfiltfilt(high, out[0] - noisy) ** 2) < 1e-5 * np.mean(signal.sosfiltfilt(high, noisy) ** 2)


def test_the_prediction_is_that_of_levinson():
    """Against scipy's Toeplitz solver on the same autocorrelation."""
    from scipy import linalg

    frames = np.random.default_rng(0).standard_normal((3, 600)).astype(np.float32)
    for frame, model in zip(frames, _models(frames), strict=True):
        r = np.correlate(frame.astype(float), frame, "full")[599 : 600 + ORDER]
        r[0] *= 1 + 1e-5
        assert model[1:] == pytest.approx(-linalg.solve_toeplitz(r[:-1], r[1:]), abs=1e-4)


def test_known_ticks_are_found_in_recorded_voices():
    found = total = extra = 0
    for name in ("Front_Center", "Rear_Left", "Side_Right"):
        samples, rate = alsa(name)
        rng = np.random.default_rng(7)
        before = ticks_of(samples, rate)
        places = np.arange(0.2, len(samples) / rate - 0.2, 0.11) + rng.uniform(-0.03, 0.03)
        loud = loudness(samples)
        noisy, spans = spoiled(samples, rate, places, lambda rate=rate, rng=rng, loud=loud: 2 * click(rate, rng) * loud)
        marks = ticks_of(noisy, rate)
        found += hits(marks, spans)
        total += len(spans)
        known = spans + [(m.start, m.end) for m in before]
        extra += sum(not any(m.start < end + 0.004 and m.end > start - 0.004 for start, end in known) for m in marks)
    assert found >= 0.8 * total and extra == 0


def test_faint_clicks_are_found_in_the_voice_alone_and_as_doubles():
    """23 dB over what is around above 2 kHz. Mouth clicks come in doubles (common practice)."""
    rng, single, double, count = np.random.default_rng(3), 0, 0, 0
    for name in sorted(path.stem for path in ALSA.glob("*_*.wav")):
        samples, rate = alsa(name)
        survey = survey_recording(Written(samples, rate))
        sung = np.flatnonzero(survey.state == VOICED)
        bright = signal.sosfilt(signal.butter(4, 2_000, "high", fs=rate, output="sos"), samples)
        for at in (sung[(k + 1) * len(sung) // 5] * survey.hop_s for k in range(4)):
            around = bright[round((at - 0.012) * rate) : round((at + 0.018) * rate)]
            wave = click(rate, rng) * np.sqrt(np.mean(around**2)) * 10 ** (23 / 20)
            one, _ = spoiled(samples, rate, [at], lambda wave=wave: wave)
            two, _ = spoiled(one, rate, [at + 0.008], lambda wave=wave: 0.8 * wave)
            near = [any(abs(m.start - at) < 0.02 for m in ticks_of(x, rate)) for x in (one, two)]
            single, double, count = single + near[0], double + near[1], count + 1
    assert double >= single >= 0.85 * count, (single, double, count)


def test_consonants_and_creaky_voices_have_few_ticks():
    """Hard negatives: texts full of T, K, P, low and rough voices; alsa-utils' recorded words."""
    seconds = marks = 0.0
    for voice in VOICES:
        samples, rate, _ = spoken(voice)
        seconds += len(samples) / rate
        marks += sum(m.confidence >= 0.5 and not m.sound for m in ticks_of(samples, rate))
    assert marks / seconds * 60 < 5, "espeak-ng never says a text twice alike"
    recorded = [m for path in ALSA.glob("*_*.wav") for m in ticks_of(*alsa(path.stem)) if m.confidence >= 0.7]
    assert len(recorded) <= 2, "the last T of a word may be as short"


def test_a_leaked_click_track_is_no_tick(demo):
    """Its clicks come again and again after the same time: they belong to the bleed."""
    samples, rate = sf.read(demo.parent / "Low harmony.wav", dtype="float32")
    marks = [m for m in ticks_of(samples, rate) if m.confidence >= 0.7]
    spans = [(x.start, x.end) for x in load_labels(demo.parent, "Low harmony") if x.sound == "tick"]
    assert hits(marks, [(a - 0.002, b + 0.002) for a, b in spans]) >= 7 and len(marks) <= len(spans) + 1


@pytest.mark.parametrize("length", [24, 96])
def test_interpolation_explains_what_is_missing(length):
    """Janssen, Veldhuis & Vries 1986 on an autoregressive signal: far better than a straight line across."""
    rng = np.random.default_rng(4)
    poles = np.array([0.995 * np.exp(1j * 0.07), 0.99 * np.exp(1j * 0.31), 0.97 * np.exp(1j * 0.9)])
    model = np.real(np.poly(np.concatenate([poles, poles.conj()])))
    samples = signal.lfilter([1.0], model, rng.standard_normal(6_000))[2_000:5_000]
    missing = np.zeros(len(samples), bool)
    missing[1_500 : 1_500 + length] = True
    out = interpolated(samples, missing, 60)
    line = np.interp(np.arange(len(samples)), np.flatnonzero(~missing), samples[~missing])
    error, straight = (np.mean((x - samples)[missing] ** 2) for x in (out, line))
    assert np.array_equal(out[~missing], samples[~missing]) and error < 0.1 * straight


@pytest.mark.parametrize("tick_db", [-25, -10, 0, 20])
def test_a_tick_that_was_added_is_never_made_worse_however_faint(tick_db):
    """Godsill & Rayner 1998, chapter 6: what is heard under a weak burst still tells of the signal."""
    rng = np.random.default_rng(7)
    model = np.real(np.poly(np.array([0.98 * np.exp(1j * 0.2), 0.98 * np.exp(-1j * 0.2), 0.9, -0.5])))
    clean = signal.lfilter([1.0], model, rng.standard_normal(6_000))[2_000:5_000]
    gains = []
    for at in range(400, 2_600, 200):
        added = np.zeros(len(clean), bool)
        added[at : at + 60] = True
        heard = clean + added * rng.standard_normal(len(clean)) * clean.std() * 10 ** (tick_db / 20)
        out = interpolated(heard, added, 60, under=[np.ones(60)])
        before, after = (np.mean((x - clean)[added] ** 2) for x in (heard, out))
        gains.append(10 * np.log10(before / after))
    assert min(gains) > -1.5 and np.mean(gains) > (0 if tick_db < -20 else 1), gains


@pytest.mark.parametrize("rate", [48_000, 192_000])
def test_the_voice_is_looked_for_under_a_tick_at_every_rate(rate):
    """A tick of 1.5 ms that was found reaches no further than the voice is looked for."""
    mark = TickMark("tick-1", 0.5, 0.5015, -20.0, 5.0, 1_000.0, 20_000.0, 1.0, voiced=True)
    part = Part("p", "p", Source("p.wav", rate, 1, rate), found=True, marks=(mark,))
    (repair,) = treatments(part)
    assert repair.under and repair.ringing > 0 and repair.last - repair.first <= 600
    by_hand = replace(mark, hand=Hand(end=0.502))
    (repair,) = treatments(replace(part, marks=(by_hand,)))
    assert repair.ringing == 0 and repair.last == round(0.502 * rate)


def test_a_take_brought_to_a_higher_rate_is_looked_at_at_its_own():
    samples, rate, _ = spoken("de")
    voice = soxr.resample(samples, rate, 48_000)
    voice += 3e-3 * np.random.default_rng(2).standard_normal(len(voice)).astype(np.float32)  # a room with all highs
    for former in (32_000, 44_100, 48_000):
        take = soxr.resample(soxr.resample(voice, 48_000, former, "VHQ"), former, 96_000, "VHQ")
        assert telling_rate(reader(take), 96_000, len(take)) == former
    assert telling_rate(reader(voice), 48_000, len(voice)) == 48_000


def test_a_tick_in_a_pause_leaves_the_room(tmp_path):
    """The noise goes on: as loud within a repair as beside it."""
    rng = np.random.default_rng(5)
    room = signal.lfilter([1.0], [1.0, -0.8], rng.standard_normal(40_000)) * 1e-3
    levels = []
    for at in range(3_000, 37_000, 1_000):
        patch = patch_of(reader(room), Repair(at, at + 100, RATE, still=True))[0]
        levels.append(np.mean(patch**2))
    assert 10 * np.log10(np.mean(levels) / np.mean(room**2)) == pytest.approx(0, abs=1.5)


def test_clipped_peaks_and_dropouts_are_found_and_mended_on_request(tmp_path, capsys):
    clean, _ = sing(VERSES[:2], BEAT_S, BREATH_S, Mouth())
    loud = clean / np.abs(clean).max() * 1.6
    broken = np.clip(loud, -1, 1)
    hole = slice(200_000, 200_040)
    broken[hole] = broken[hole.start - 1]
    take = write(tmp_path / "take.wav", broken, RATE, "FLOAT")
    found = Written(broken, RATE)
    marks = damage.find(found.read, survey_recording(found))
    assert {m.sound for m in marks} == {"clipped", "dropout"}
    holes = [m for m in marks if m.sound == "dropout"]
    assert [round(m.start * RATE) for m in holes] == pytest.approx([hole.start - 1], abs=1)
    for extra in ([], ["--set", "tick.mend=true"]):
        call = ["clean", str(take), "--only", "tick", "--out", str(tmp_path), "--depth", "32f", "--quiet", "--force"]
        assert main([*call, *extra]) == 0
        out = sf.read(tmp_path / "take.clean.wav")[0]
        error = np.mean((out - loud)[hole] ** 2)
        if extra:
            assert error < 0.1 * np.mean((broken - loud)[hole] ** 2)
            cut = np.abs(loud) > 1.0
            assert np.mean((out - loud)[cut] ** 2) < 0.5 * np.mean((broken - loud)[cut] ** 2)
        else:
            assert np.array_equal(out[hole].astype(np.float32), broken[hole].astype(np.float32))


def test_every_span_with_pops_and_ticks_equals_the_whole(demo):
    samples, rate = sf.read(demo.parent / "Low harmony.wav", dtype="float32")
    take = Written(samples[: 28 * rate], rate)
    told = find_all(take, survey_recording(take))
    part = Part("p", "p", Source("p", rate, 1, take.frames), marks=told.marks, measured=told.measured, found=True)
    assert {"PopCut", "Repair"} <= {type(t).__name__ for t in part.plan}
    renderer = Renderer(take.read, rate, take.frames)
    whole = np.concatenate([clean for _, clean in renderer.blocks(part.plan, take.blocks(150_000))], axis=1)
    pop, tick = part.of_kind("pop")[1], part.of_kind("tick")[0]
    near_pop, near_tick = round(pop.start * rate) - 300, round(tick.start * rate) - 20
    for start, frames in ((near_pop, 3_000), (near_tick, 60), (5 * TILE - 9, 18)):
        span = Renderer(take.read, rate, take.frames).cleaned(part.plan, start, frames)
        assert np.abs(span - whole[:, start : start + frames]).max() < 3e-6


def test_by_hand_and_on_the_command_line(demo, tmp_path, capsys):
    lead = demo.parent / "Lead.wav"
    assert main(["find", str(lead), "--json", "--only", "pop,tick", "--set", "pop.ceiling_db=-10"]) == 0
    rows = json.loads(capsys.readouterr().out)["marks"]
    pops = [row for row in rows if row["kind"] == "pop"]
    assert len(pops) == 12 and all(
        row["change_db"] == pytest.approx(-10 - row["standout_db"], abs=0.02) for row in pops
    )
    take = Written(*sf.read(lead, dtype="float32"))
    mark = drawn(take.read, survey_recording(take), pops[3]["start_s"], pops[3]["end_s"])
    assert mark.standout_db == pytest.approx(pops[3]["standout_db"], abs=0.5) and mark.kind == "pop"
