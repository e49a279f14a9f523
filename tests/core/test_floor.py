"""Low cut, dead air and breaths: found where they are, no word harmed, the room going on."""

import json
from itertools import pairwise

import numpy as np
import pytest
import soundfile as sf
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from scipy import signal

from conftest import Written, look, reader, write
from isophon.cli import main
from isophon.core.audio.files import Recording
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.demo.phonemes import CONSONANTS, VOWELS
from isophon.core.demo.take import load_labels
from isophon.core.finding import find_all, survey_recording
from isophon.core.passes import NAMES
from isophon.core.passes.breath.find import find as find_breaths
from isophon.core.passes.ess import treat
from isophon.core.passes.fades import Fade, room_tone
from isophon.core.passes.hiss.settings import HissSettings
from isophon.core.passes.hum.settings import HumSettings
from isophon.core.passes.rumble import treat as lowcut
from isophon.core.passes.rumble.settings import RumbleSettings, cut_of
from isophon.core.passes.rumble.treat import LowCut
from isophon.core.passes.singing import singing
from isophon.core.render import Renderer
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from isophon.core.session.settings import role_default
from isophon.core.survey import survey
from voices import ALSA, alsa, compressed, score, spoken

RATE = 48_000


def part_of(path, role: str) -> Part:
    with Recording(path) as recording:
        found = survey(recording.blocks(), recording.sample_rate, recording.frames)
        told = find_all(recording, found)
        source = Source(str(path), recording.sample_rate, recording.channels, recording.frames)
    settings_ = {kind: role_default(kind, role) for kind in NAMES}
    return Part("p", "p", source, role, marks=told.marks, found=True, voice_lufs=found.voice_lufs,
                measured=told.measured, **settings_)  # fmt: skip


@pytest.fixture(scope="module")
def lead(demo_lead):
    return part_of(demo_lead, "lead")


@pytest.fixture(scope="module")
def demo_lead(request):
    return request.getfixturevalue("demo").parent / "Lead.wav"


def faded(part):
    return [(t.first / part.source.sample_rate, t.last / part.source.sample_rate) for t in part.plan
            if isinstance(t, Fade)]  # fmt: skip


@pytest.mark.parametrize("name", ["Lead", "Lead double", "High harmony", "Low harmony", "Ad-libs"])
def test_the_demos_breaths_are_found_and_no_word_is_faded(demo, name):
    """Every part taken as a harmony, whose breaths and gaps go altogether, with hum, hiss, rumble and bleed in it."""
    part = part_of(demo.parent / f"{name}.wav", "harmony")
    labels = load_labels(demo.parent, name)
    truth = [(x.start, x.end) for x in labels if x.sound == "breath"]
    found = [(m.start, m.end) for m in part.of_kind("breath")]
    _, false, missed = score(found, truth, [])
    assert missed <= (name == "High harmony") and false <= 2
    ends = [abs(b - d) for a, b in found for c, d in truth if a < d and b > c]
    assert np.median(ends) < (0.05 if name == "Ad-libs" else 0.015), "the ad-libs' hiss covers the tails of breaths"
    words = [(x.start, x.end) for x in labels if x.sound in CONSONANTS or x.sound in VOWELS]
    for start, end in words:
        assert all(min(b, end) - max(a, start) <= 0.01 for a, b in faded(part)), (start, end)
    for label in [x for x in labels if x.sound in ("chatter", "shuffle")]:
        covered = sum(max(0.0, min(b, label.end) - max(a, label.start)) for a, b in faded(part))
        assert covered > 0.6 * (label.end - label.start), label


@pytest.mark.parametrize("name", ["Lead", "High harmony", "Low harmony"])
def test_breaths_that_a_compressor_raised_are_breaths_still(demo, name):
    samples, rate = sf.read(demo.parent / f"{name}.wav", dtype="float32")
    take = Written(compressed(samples, rate), rate)
    marks = find_all(take, survey_recording(take)).marks
    truth = [(x.start, x.end) for x in load_labels(demo.parent, name) if x.sound == "breath"]
    found = [(m.start, m.end) for m in marks if m.kind == "breath"]
    _, false, missed = score(found, truth, [])
    assert missed <= (name == "High harmony") and false <= 2
    esses = [m for m in marks if m.kind == "ess" and m.sound in ("s", "sh") and m.confidence >= 0.5]
    assert not any(m.start < b and m.end > a for m in esses for a, b in truth), "air is no ess"


def _intake(rng, band_hz: tuple[float, float]) -> np.ndarray:
    """A breath of unit power: noise that swells over two thirds of its length."""
    noise = rng.standard_normal(round(rng.uniform(0.2, 0.45) * RATE))
    at = np.linspace(0, 3, len(noise))
    shape = np.where(at < 2, np.sin(np.pi / 4 * np.minimum(at, 2)), np.cos(np.pi / 2 * np.clip(at - 2, 0, 1)))
    air = signal.sosfilt(signal.butter(1, band_hz, "band", fs=RATE, output="sos"), noise) * shape**1.5
    return air / np.sqrt(np.mean(air**2))


@pytest.mark.parametrize(("band_hz", "under_db"), [((700, 4_000), 14), ((700, 4_000), 26), ((3_500, 9_000), 26)])
@pytest.mark.parametrize("pause_s", [0.0, 0.015, 0.08])
def test_a_breath_leads_into_its_word_in_a_room(pause_s, band_hz, under_db):
    """alsa-utils' recorded words, an intake before each, all in a room with 0.3 s of reverberation."""
    rng, pieces, truth = np.random.default_rng(1), [np.zeros(RATE)], []
    for path in sorted(ALSA.glob("[FRS]*.wav")):
        word, _ = alsa(path.stem)
        loud = np.flatnonzero(np.abs(word) > 0.02 * np.abs(word).max())
        word = word[max(0, loud[0] - 100) : loud[-1] + 1_500]
        at, air = sum(map(len, pieces)), _intake(rng, band_hz)
        truth.append((at / RATE, (at + len(air)) / RATE))
        pieces += [air * 0.1 * 10 ** (-under_db / 20), np.zeros(round(pause_s * RATE)),
                   word * 0.1 / np.sqrt(np.mean(word**2)), np.zeros(round(0.3 * RATE))]  # fmt: skip
    dry, tail = np.concatenate(pieces), np.arange(round(0.35 * RATE)) / RATE
    room = rng.standard_normal(len(tail)) * np.exp(-23 * tail) * 0.01
    room[0] = 1.0
    wet = signal.oaconvolve(dry, room)[: len(dry)] + rng.standard_normal(len(dry)) * 1e-4
    take = Written(wet.astype(np.float32), RATE)
    found = [(m.start, m.end) for m in find_all(take, survey_recording(take)).marks if m.kind == "breath"]
    alike = [max((min(b, d) - max(a, c)) / (max(b, d) - min(a, c)) for c, d in [*found, (-2, -1)]) for a, b in truth]
    assert sum(one > 0.6 for one in alike) >= len(truth) - 1, np.round(alike, 2)
    assert len(found) <= len(truth) + 1


@pytest.mark.parametrize("voice", ["de", "en-us+f3", "it+m4"])
def test_spoken_words_keep_their_starts_and_tails(voice):
    """Against espeak-ng's phoneme events: what sounds holds every phoneme but the closures of stops, noise or not."""
    samples, rate, phonemes = spoken(voice)
    noise = np.random.default_rng(1).standard_normal(len(samples)) * np.sqrt(np.mean(samples**2)) * 10 ** (-30 / 20)
    for take in (samples, samples + noise.astype(np.float32)):
        found, esses = look(take, rate)
        spans = singing(found, [(m.start, m.end) for m in esses])
        for (start, end, name), (_, _, after) in pairwise(phonemes):
            stops = "ptkbdgx?"  # a stop's closure, which is silent, belongs to its label or to the one before
            if name.strip() and not name.startswith("_") and name[0] not in stops and after[:1] not in stops:
                inside = sum(max(0.0, min(b, end) - max(a, start)) for a, b in spans)
                assert inside > end - start - 0.05, (name, start, end)


def test_noise_and_a_steady_tone_hold_no_breath():
    rng = np.random.default_rng(2)
    voice, rate, _ = spoken("de")
    for extra in (rng.standard_normal(len(voice)) * 3e-3, 2e-3 * np.sin(np.arange(len(voice)) * 0.3)):
        found, esses = look(voice + extra.astype(np.float32), rate)
        assert len(find_breaths(found, singing(found, [(m.start, m.end) for m in esses]))) <= 1
    found, _ = look(rng.standard_normal(rate * 3) * 0.01, rate)
    assert singing(found) == [] and find_breaths(found, []) == ()


def test_a_leads_breath_comes_down_and_the_room_goes_on(lead):
    samples, _ = sf.read(lead.source.path, dtype="float32")
    only = replace(lead, marks=lead.of_kind("breath"), rumble=RumbleSettings(on=False),
                   hum=HumSettings(on=False), hiss=HissSettings(on=False))  # fmt: skip
    clean = Renderer(reader(samples), RATE, len(samples)).cleaned(only.plan, 0, len(samples))[0]
    away = np.ones(len(samples), bool)
    high = signal.butter(4, 700, "high", fs=RATE, output="sos")  # over the rumble and hum of the room
    for mark in only.marks:
        a, b = (round(t * RATE) for t in mark.span)
        away[a:b] = False
        middle = slice(a + 2_000, b - 2_000)
        heard, sung = (np.mean(signal.sosfilt(high, x[middle]) ** 2) for x in (clean, samples))
        change = 10 * np.log10(heard / sung)
        assert change == pytest.approx(-6, abs=0.7) and only.change(mark) == -6.0
    assert np.array_equal(clean[away], samples[away]), "outside of the breaths every sample stays"


def test_a_filled_gap_sounds_like_the_room_around_it(lead):
    """Third-octave levels of a fill within 2 dB of the room around, from 100 Hz to 12.5 kHz; no step at its seams."""
    samples, _ = sf.read(lead.source.path, dtype="float32")
    gap = max(lead.of_kind("gap"), key=lambda m: m.end - m.start)
    a, b = round((gap.start + 0.1) * RATE), round((gap.end - 0.05) * RATE)
    fade = Fade(a, b, (960, 960), 0.0, lead.measured.room, RATE)
    clean = Renderer(reader(samples), RATE, len(samples)).cleaned((fade,), 0, len(samples))[0]
    tone = room_tone(lead.measured.room, RATE, 0, RATE * 20, 1)[0]
    edges = third_octave_edges(100, 12_500)
    told = third_octave_edges(20.0, 16_000.0)
    freqs, density = signal.welch(tone, RATE, nperseg=16_384)
    for low, high in pairwise(edges):
        level = 10 * np.log10(density[(freqs >= low) & (freqs < high)].sum() * freqs[1])
        room = lead.measured.room[int(np.argmin(np.abs(told[:-1] - low)))]
        assert level == pytest.approx(room, abs=2.0), low
    steps = np.abs(np.diff(clean))
    for seam in (a, b):
        near, around = steps[seam - 200 : seam + 200].max(), np.abs(np.diff(samples[a - 4_000 : b + 4_000])).max()
        assert near <= around * 1.05


def test_room_tone_is_the_same_wherever_it_is_asked_for(lead):
    whole = room_tone(lead.measured.room, RATE, 0, 60_000, 2)
    assert np.allclose(room_tone(lead.measured.room, RATE, 12_345, 9_000, 2), whole[:, 12_345:21_345], atol=1e-9)
    assert abs(np.corrcoef(whole)[0, 1]) < 0.1
    assert not room_tone((-150.0,) * len(lead.measured.room), RATE, 0, 1_000, 1).max() > 1e-6


@pytest.mark.parametrize("slope", [12, 24, 48])
@pytest.mark.parametrize("rate", [22_050, 48_000])
def test_the_low_cut_is_a_butterworth_without_phase(slope, rate):
    """Against scipy's Butterworth high-pass, within 0.1 dB from where it is 12 dB down; symmetric, so no phase."""
    cut = LowCut(0, rate, 100.0, slope, rate)
    impulse = np.zeros(rate, np.float32)
    impulse[rate // 2] = 1
    out = lowcut.apply(reader(impulse), 0, rate, cut)[0]
    assert np.allclose(out[rate // 2 - 2_000 : rate // 2], out[rate // 2 + 1 : rate // 2 + 2_001][::-1], atol=1e-7)
    freqs = np.fft.rfftfreq(rate, 1 / rate)
    gain = 20 * np.log10(np.abs(np.fft.rfft(out)) + 1e-9)
    sos = signal.butter(slope // 6, 100, "high", fs=rate, output="sos")
    expected = 20 * np.log10(np.abs(signal.sosfreqz(sos, freqs, fs=rate)[1]) + 1e-9)
    judged = (expected > -12) & (freqs < 2_000)
    assert np.abs(gain - expected)[judged].max() < 0.1
    assert gain[freqs < 30].max() < -18


def test_the_low_cut_follows_the_lowest_notes(lead):
    assert cut_of(RumbleSettings(), 98.0) == pytest.approx(75, abs=2)
    assert lowcut.loss_db(cut_of(RumbleSettings(), 98.0), 24, 98.0) == pytest.approx(0.5, abs=0.15)
    assert cut_of(RumbleSettings(), 400.0) == 150 and cut_of(RumbleSettings(cut_hz=90.0), 400.0) == 90
    assert cut_of(RumbleSettings(on=False), 98.0) is None and cut_of(RumbleSettings(), None) is None
    assert 200 < lead.measured.lowest_hz < 240, "the lowest note of the demo's lead is A3"
    samples, _ = sf.read(lead.source.path, dtype="float32")
    clean = Renderer(reader(samples), RATE, len(samples)).cleaned(lead.plan, 0, len(samples))[0]
    low = signal.butter(4, 50, "low", fs=RATE, output="sos")
    before, after = (np.mean(signal.sosfilt(low, x) ** 2) for x in (samples, clean))
    assert 10 * np.log10(after / before) < -15


def make_plan(cuts):
    fades = tuple(Fade(a, a + n, (300, 200), g, (-60.0,) * 30 if fill else (), RATE) for a, n, g, fill in cuts)
    esses = (treat.EssCut(treat.Span(20_000, 26_000, 3_000.0, None), (480, 480), 0.3),)
    return tuple(sorted((LowCut(0, 90_000, 90.0, 24, RATE), *fades, *esses), key=lambda t: t.first))


NOISE = np.random.default_rng(3).standard_normal((2, 90_000)).astype(np.float32) * 0.1


@settings(max_examples=25, deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 80_000), st.integers(700, 9_000), st.floats(0, 1), st.booleans()), max_size=3),
    st.integers(0, 85_000), st.integers(1, 30_000),
)  # fmt: skip
def test_any_span_of_all_treatments_is_that_span_of_the_whole(cuts, start, frames):
    plan = make_plan(cuts)
    whole = Renderer(reader(NOISE), RATE, 90_000).cleaned(plan, 0, 90_000)
    frames = min(frames, 90_000 - start)
    alone = Renderer(reader(NOISE), RATE, 90_000).cleaned(plan, start, frames)
    assert np.array_equal(alone, whole[:, start : start + frames]) and np.isfinite(whole).all()
    blocks = Renderer(reader(NOISE), RATE, 90_000).blocks(plan, iter(np.array_split(NOISE, 4, axis=1)))
    assert np.allclose(np.concatenate([clean for _, clean in blocks], axis=1), whole, atol=2e-6)


def test_the_terminal_finds_and_cleans_them(demo, tmp_path, capsys):
    take = demo.parent / "Low harmony.wav"
    assert main(["find", str(take), "--json", "--only", "breath,gap,rumble", "--role", "harmony"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert {m["kind"] for m in told["marks"]} == {"breath", "gap"} and 60 < told["rumble"]["cut_hz"] < 120
    assert all(m["change_db"] <= -36 for m in told["marks"] if m["kind"] == "breath" and m["confidence"] >= 0.5)
    call = ["clean", str(take), "--out", str(tmp_path), "--role", "harmony", "--depth", "32f", "--only", "breath,gap"]
    assert main(call) == 0
    clean, sung = (sf.read(p, dtype="float32")[0] for p in (tmp_path / "Low harmony.clean.wav", take))
    assert not clean[RATE * 5 : RATE * 14].any() and np.array_equal(
        clean[RATE * 18 : RATE * 19], sung[RATE * 18 :][:RATE]
    )
    row = json.loads((tmp_path / "report.json").read_text())["files"][0]
    assert (
        row["after"]["floor_dbfs"] == -120 and row["kinds"]["gap"]["changed"] > 3 and row["kinds"]["ess"]["count"] == 0
    )
    assert main(["clean", str(take), "--out", str(tmp_path), "--set", "gap.how=loud"]) == 2
    assert "gap.how" in capsys.readouterr().err


def test_a_silent_file_between_words_needs_no_floor(tmp_path):
    samples, rate, _ = spoken("es")
    path = write(tmp_path / "dry.wav", np.concatenate([np.zeros(rate), samples, np.zeros(rate)]), rate, "FLOAT")
    part = part_of(path, "lead")
    assert all(part.change(m) == 0 for m in part.of_kind("gap")) and max(part.measured.room) <= -100


@pytest.mark.parametrize("path", sorted(ALSA.glob("[FRS]*.wav")), ids=lambda p: p.stem)
def test_recorded_words_keep_their_final_stops(path):
    """alsa-utils' recordings as a harmony: nothing that is 36 dB under the voice or louder is faded."""
    part = part_of(path, "harmony")
    samples, rate = sf.read(path)
    loud = 10 * np.log10(np.mean(samples[np.abs(samples) > 0.05 * np.abs(samples).max()] ** 2))
    for start, end in faded(part):
        for at in np.arange(start, end - 0.02, 0.01):
            piece = samples[round(at * rate) : round((at + 0.02) * rate)]
            assert 10 * np.log10(np.mean(piece**2) + 1e-12) < loud - 36, at


@pytest.mark.parametrize(("word", "room_db"), [("Rear_Left", -44), ("Rear_Left", -40), ("Front_Right", -44),
                                               ("Side_Left", -50)])  # fmt: skip
def test_a_stop_after_a_closure_in_a_room_belongs_to_its_word(tmp_path, word, room_db):
    """Each of them ends in a T whose burst comes a tenth of a second after the vowel, or after an F."""
    samples, rate = alsa(word)
    loud = 20 * np.log10(np.sqrt(np.mean(samples[np.abs(samples) > 0.05 * np.abs(samples).max()] ** 2)))
    take = np.concatenate([samples, np.zeros(round(1.2 * rate), np.float32)] * 3)
    take += np.random.default_rng(4).standard_normal(len(take)) * 10 ** ((loud + room_db) / 20)
    part = part_of(write(tmp_path / "words.wav", take, rate, "FLOAT"), "harmony")
    assert len(faded(part)) >= 3
    for start, end in faded(part):
        for at in np.arange(start, end - 0.02, 0.01):
            piece = take[round(at * rate) : round((at + 0.02) * rate)]
            assert 10 * np.log10(np.mean(piece**2)) < loud - 34, at


@pytest.mark.parametrize("voice", ["en-us", "de+f2", "it+m4"])
def test_a_breath_that_hisses_like_an_ess_is_a_breath_by_its_place_and_way(voice):
    """Noise strongest at 6.5 kHz that swells and sinks in the pause before a word (common practice)."""
    clean, rate, _ = spoken(voice)
    clean = np.concatenate([np.zeros(round(0.9 * rate), np.float32), clean])
    rng = np.random.default_rng(8)
    count = round(0.45 * rate)
    hz = np.fft.rfftfreq(count, 1 / rate)
    humps = ((0.3, 1_400, 260), (0.3, 2_700, 400), (1.0, 6_500, 1_100))
    shape = 0.15 + sum(height * np.exp(-0.5 * ((hz - at) / wide) ** 2) for height, at, wide in humps)
    shape *= hz / (hz + 250) / (1 + (hz / 11_000) ** 4)
    air = np.fft.irfft(np.fft.rfft(rng.standard_normal(count)) * shape, count)
    air *= np.sin(np.pi * np.arange(count) / count) ** 1.3 / np.sqrt(np.mean(air**2))
    take = clean + 1e-4 * rng.standard_normal(len(clean)).astype(np.float32)
    start = round(0.35 * rate)
    take[start : start + count] += (air * np.sqrt(np.mean(clean[np.abs(clean) > 0.02] ** 2)) * 10 ** (-14 / 20)).astype(
        np.float32
    )
    written = Written(take, rate)
    told = find_all(written, survey_recording(written))
    mine = [m for m in told.marks if m.start < 0.8 and m.end > 0.35]
    assert any(m.kind == "breath" for m in mine) and not any(m.kind == "ess" and m.confidence >= 0.5 for m in mine), (
        mine
    )
