"""Hum and hiss: what goes is the mains and the noise, what stays is the voice."""

import json

import numpy as np
import pytest
from scipy import signal, stats

from conftest import Written, reader, write
from isophon.cli import main
from isophon.core.audio.hum import hum_of
from isophon.core.audio.lowrate import LowRate
from isophon.core.demo.take import load_labels
from isophon.core.finding import find_all, survey_recording
from isophon.core.passes.context import LOW_HZ as HUM_RATE
from isophon.core.passes.hiss import treat as hiss
from isophon.core.passes.hiss.settings import HissSettings
from isophon.core.passes.hum import find as hum_finding
from isophon.core.passes.hum.find import find
from isophon.core.passes.hum.settings import HumSettings
from isophon.core.passes.noise_track import levels_at, track_of
from isophon.core.render import TILE, Renderer
from isophon.core.session import edits
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Session
from isophon.core.session.settings import role_default
from voices import VOICES, alsa, spoken

RATE = 48_000


def mains(hz: float, frames: int, rate: int, drift_hz: float = 0.003, highest: int = 20, turn_s=50.0) -> np.ndarray:
    """A harmonic set whose fundamental drifts; level of the first −50 dBFS."""
    time = np.arange(frames) / rate
    phase = 2 * np.pi * hz * time + drift_hz * turn_s * np.sin(2 * np.pi * time / turn_s)
    return 0.0045 * sum(np.sin(k * phase + k * k) / k for k in range(1, highest + 1))


@pytest.mark.parametrize(("voice", "hz"), [("de", 49.96), ("es+f4", 60.03), ("pt-br+f5", 50.11)])
def test_the_mains_is_found_and_subtracted(voice, hz):
    samples, rate, _ = spoken(voice)
    samples = np.tile(samples, 2)
    added = mains(hz, len(samples), rate)
    hum = find(LowRate(reader(samples + added), rate, len(samples), 1, HUM_RATE), rate)
    assert hum.base_hz == pytest.approx(hz, abs=0.015)
    left = added - hum_of(hum, 0, len(samples))[0]
    assert 10 * np.log10(np.mean(left**2) / np.mean(added**2)) < -24


@pytest.mark.parametrize("voice", ["es+f4", "pt-br+f5", "en-us"])
def test_a_hum_that_wanders_is_followed_to_the_end_of_the_take(voice):
    samples, rate, _ = spoken(voice)
    samples = np.concatenate([samples, samples, np.zeros(round(1.3 * rate))])
    added = mains(50.02, len(samples), rate, 0.03, turn_s=8.0)
    hum = find(LowRate(reader(samples + added), rate, len(samples), 1, HUM_RATE), rate)
    left, last = added - hum_of(hum, 0, len(samples))[0], slice(-rate // 2, None)
    assert 10 * np.log10(np.mean(left[last] ** 2) / np.mean(added[last] ** 2)) < -33


def test_one_core_finds_the_same_hum_as_all(monkeypatch):
    """A worker has one core, a call in a terminal all of them; both must give the same samples."""
    samples, rate, _ = spoken("de")
    low = LowRate(reader(samples + mains(50.1, len(samples), rate)), rate, len(samples), 1, HUM_RATE)
    found = []
    for most in (1, 2, 3):
        monkeypatch.setattr(hum_finding, "cores", lambda most=most: most)
        found.append(find(low, rate))
    assert found[0] is not None and len(found[0].partials) > 8 and found[0] == found[1] == found[2]


def test_a_voice_alone_has_no_hum(demo):
    for voice in VOICES:
        samples, rate, _ = spoken(voice)
        assert find(LowRate(reader(samples), rate, len(samples), 1, HUM_RATE), rate) is None, voice
    for name in ("Front_Center", "Rear_Right", "Side_Left", "Noise"):
        samples, rate = alsa(name)
        assert find(LowRate(reader(np.tile(samples, 4)), rate, 4 * len(samples), 1, HUM_RATE), rate) is None, name
    ad_libs = Written(*_take(demo.parent / "Ad-libs.wav"))
    assert find(LowRate(ad_libs.read, ad_libs.sample_rate, ad_libs.frames, 1, HUM_RATE), ad_libs.sample_rate) is None


def _take(path):
    import soundfile as sf

    return sf.read(path, dtype="float32")


def test_the_demos_hum_is_the_one_its_labels_name(demo):
    take = Written(*_take(demo.parent / "High harmony.wav"))
    true = next(x.value for x in load_labels(demo.parent, "High harmony") if x.sound == "hum")
    hum = find(LowRate(take.read, RATE, take.frames, 1, HUM_RATE), RATE)
    assert hum.base_hz == pytest.approx(true, abs=0.03)
    assert {1, 2, 3, 5, 7} <= {p.number for p in hum.partials}


def test_a_note_on_a_harmonic_stays():
    time = np.arange(10 * RATE) / RATE
    shape = np.clip(np.minimum(time - 4, 6 - time) / 0.05, 0, 1)
    note = 0.1 * shape * np.sin(2 * np.pi * 100.0 * time)
    both = note + mains(50.0, len(time), RATE, 0.0) + np.random.default_rng(1).standard_normal(len(time)) * 1e-5
    hum = find(LowRate(reader(both), RATE, len(time), 1, HUM_RATE), RATE)
    out = both - hum_of(hum, 0, len(time))[0]
    assert 10 * np.log10(np.mean((out - note)[shape > 0] ** 2) / np.mean(note[shape > 0] ** 2)) < -45


@pytest.fixture(scope="module")
def hissing():
    """A voice with white noise 26 dB under it, and the part that was found in it."""
    samples, rate, _ = spoken("en-us")
    noise = np.random.default_rng(3).standard_normal(len(samples)).astype(np.float32)
    noise *= np.sqrt(np.mean(samples[np.abs(samples) > 0.02] ** 2)) * 10 ** (-26 / 20)
    take = Written(samples + noise, rate)
    told = find_all(take, survey_recording(take))
    part = Part("p", "p", Source("p", rate, 1, take.frames), marks=told.marks, measured=told.measured, found=True)
    return samples, noise, take, part


def test_the_noise_comes_down_by_what_was_asked_and_the_voice_stays(hissing):
    clean, noise, take, part = hissing
    rate = take.sample_rate
    high = signal.butter(6, 6_500, "high", fs=rate, output="sos")
    still = np.abs(signal.oaconvolve(np.abs(clean), np.ones(1_024), "same")) < 1e-3
    outs = {}
    for amount in (-6.0, -12.0):
        cut = hiss.HissCut(0, take.frames, part.measured.noise, amount, 5_000.0, 0.0, rate)
        outs[amount] = hiss.apply(take.read, 0, take.frames, cut)[0]
        quiet = signal.sosfilt(high, outs[amount])[still]
        assert 20 * np.log10(quiet.std() / signal.sosfilt(high, noise)[still].std()) == pytest.approx(amount, abs=0.7)
        # no warble (Cappé 1994): the rest is as even as the noise was; holes and chirps would spread its levels
        spread = [np.log(np.abs(signal.stft(x, rate, nperseg=512)[2][160:, :]) + 1e-9).std(axis=1).mean()
                  for x in (quiet, signal.sosfilt(high, noise)[still])]  # fmt: skip
        assert spread[0] < 1.15 * spread[1]
    low = signal.butter(8, 2_000, "low", fs=rate, output="sos")
    gone = signal.sosfilt(low, outs[-12.0] - take.read(0, take.frames)[0])
    assert gone.std() < 1e-3 * signal.sosfilt(low, noise).std(), "lows are left alone"
    error = [np.mean((x - clean) ** 2) for x in (take.read(0, take.frames)[0], outs[-6.0], outs[-12.0])]
    assert error[2] < error[1] < error[0]


@pytest.mark.parametrize("amount", [-6.0, -15.0])
def test_of_noise_alone_what_was_asked_is_left_and_it_does_not_warble(amount):
    noise = (0.01 * np.random.default_rng(3).standard_normal(6 * RATE)).astype(np.float32)
    bands = (10 * np.log10(1e-4 / (RATE / 2)),) * hiss.BANDS
    cut = hiss.HissCut(0, len(noise), bands, amount, 100.0, 0.0, RATE)
    out = hiss.apply(reader(noise), 0, len(noise), cut)[0]
    inside = slice(RATE, -RATE)
    assert 10 * np.log10(np.mean(out[inside] ** 2) / np.mean(noise[inside] ** 2)) == pytest.approx(amount, abs=0.6)
    level = lambda x: 10 * np.log10(np.mean(x[inside].reshape(-1, RATE // 20) ** 2, axis=1))  # noqa: E731
    assert np.std(level(out) - level(noise)) < 0.35


def test_top_is_given_back_to_the_voice_and_not_to_its_esses(hissing):
    _, _, take, part = hissing
    rate = take.sample_rate
    high = signal.butter(6, 6_500, "high", fs=rate, output="sos")

    def loud(top_db: float, start: float, end: float) -> float:
        only = edits.set_setting(Session("s", (part,)), ["p"], "hiss", "top_db", top_db).parts[0]
        plan = tuple(t for t in only.plan if isinstance(t, hiss.HissCut))
        out = Renderer(take.read, rate, take.frames).cleaned(plan, 0, take.frames)[0]
        return 20 * np.log10(signal.sosfilt(high, out)[round(start * rate) : round(end * rate)].std())

    ess = max((m for m in part.of_kind("ess") if m.end - m.start > 0.1), key=lambda m: m.level_db)
    middle = (ess.start + 0.02, ess.end - 0.02)
    assert loud(4.0, *middle) - loud(0.0, *middle) < 0.3
    whole = (0.0, take.duration)
    assert loud(4.0, *whole) > loud(0.0, *whole)


def test_every_span_of_the_floor_equals_the_whole(hissing):
    _, _, take, part = hissing
    added = mains(50.0, take.frames, take.sample_rate)
    take = Written(take.read(0, take.frames)[0] + added, take.sample_rate)
    told = find_all(take, survey_recording(take))
    part = Part("p", "p", part.source, marks=told.marks, measured=told.measured, found=True,
                gap=role_default("gap", "harmony"))  # fmt: skip
    kinds = {type(t).__name__ for t in part.plan}
    assert {"HumCut", "LowCut", "HissCut", "Fade"} <= kinds
    renderer = Renderer(take.read, take.sample_rate, take.frames)
    whole = np.concatenate([clean for _, clean in renderer.blocks(part.plan, take.blocks(100_000))], axis=1)
    for start, frames in ((0, 900), (TILE - 50, 100), (3 * TILE + 17, 2 * TILE), (take.frames - 4_000, 4_000)):
        span = Renderer(take.read, take.sample_rate, take.frames).cleaned(part.plan, start, frames)
        assert np.abs(span - whole[:, start : start + frames]).max() < 2e-6


def test_noise_is_learned_from_a_span_that_a_person_chose(tmp_path, capsys):
    samples, rate, _ = spoken("en-us")
    rng = np.random.default_rng(1)
    pause = np.zeros(rate, np.float32)
    whole = np.concatenate([pause, samples, pause]) + rng.standard_normal(len(samples) + 2 * rate) * 1e-4
    whole[-rate:] += rng.standard_normal(rate) * 3e-3
    take = write(tmp_path / "take.wav", whole, rate)
    levels = []
    for span in ((0.0, 0.0), (len(whole) / rate - 0.9, len(whole) / rate - 0.1)):
        call = ["find", str(take), "--json", "--only", "hiss"]
        call += [f"--set=hiss.learn_from={span[0]}", f"--set=hiss.learn_to={span[1]}"]
        assert main(call) == 0
        levels.append(json.loads(capsys.readouterr().out)["hiss"]["level_dbfs"])
    assert levels[1] - levels[0] == pytest.approx(29.5, abs=2)
    assert main(["find", str(take), "--set=hiss.learn_from=1", "--set=hiss.learn_to=1.01"]) == 3
    assert "too short to learn" in capsys.readouterr().err


def test_the_command_line_tells_the_partials_and_takes_them_out(tmp_path, capsys):
    samples, rate, _ = spoken("de")
    samples = np.tile(samples, 2)
    take = write(tmp_path / "take.wav", samples + mains(50.0, len(samples), rate), rate)
    assert main(["find", str(take), "--json", "--only", "hum"]) == 0
    rows = json.loads(capsys.readouterr().out)["bands"]
    assert [row["freq_hz"] for row in rows[:3]] == pytest.approx([50, 100, 150], abs=0.1)
    assert all(row["kind"] == "hum" and row["standout_db"] < -15 and row["change_db"] < 0 for row in rows)
    assert main(["clean", str(take), "--only", "hum", "--out", str(tmp_path), "--depth", "32f", "--quiet"]) == 0
    out = _take(tmp_path / "take.clean.wav")[0]
    before, after = (np.mean((x - samples) ** 2) for x in (_take(take)[0], out))
    assert 10 * np.log10(after / before) < -20


def test_switched_off_they_do_nothing(hissing):
    *_, part = hissing
    off = Part("p", "p", part.source, measured=part.measured, hum=HumSettings(on=False), hiss=HissSettings(on=False))
    assert {type(t).__name__ for t in off.plan} == {"LowCut"}


def test_noise_that_rises_is_followed_and_steady_noise_is_not():
    """Noise that rises by 8 dB in the middle: each half comes down by what was asked and warbles no more.

    Warble: the kurtosis of the powers of what is left over that of the noise (Uemura et al., IWAENC 2008, from
    memory), against that of the first half with the noise taken for steady, which is right there.
    """
    high = signal.butter(6, 6_500, "high", fs=22_050, output="sos")
    ratios = []
    for voice in ("en-us+f3", "de", "it+m4"):
        samples, rate, _ = spoken(voice)
        air = np.zeros(rate // 2, np.float32)
        clean = np.concatenate([air, samples, air, samples, air, samples, air])
        noise = np.random.default_rng(4).standard_normal(len(clean))
        noise *= np.sqrt(np.mean(samples[np.abs(samples) > 0.02] ** 2)) * 10 ** (-34 / 20)
        still = np.abs(signal.oaconvolve(np.abs(clean), np.ones(1_024), "same")) < 1e-3
        middle = len(clean) // 2
        steady = Written((clean + noise).astype(np.float32), rate)
        assert not find_all(steady, survey_recording(steady)).measured.noise_track
        noise[middle:] *= 10 ** (8 / 20)
        take = Written((clean + noise).astype(np.float32), rate)
        measured = find_all(take, survey_recording(take)).measured
        assert measured.noise_track
        for track in ((), measured.noise_track):
            cut = hiss.HissCut(0, take.frames, measured.noise, -10.0, 5_000.0, 0.0, rate, (), track)
            out = hiss.apply(take.read, 0, take.frames, cut)[0]
            for half in (slice(0, middle), slice(middle, None)):
                left, was = (signal.sosfilt(high, x)[half][still[half]] for x in (out, noise))
                if track:
                    assert 20 * np.log10(left.std() / was.std()) == pytest.approx(-10, abs=1.0), (voice, half)
                ratios.append(_kurtosis(left, rate) / _kurtosis(was, rate))
    first, _, *followed = np.array(ratios).reshape(3, 4).mean(axis=0)
    assert np.mean(followed) < 1.1 * first


def _kurtosis(samples: np.ndarray, rate: int) -> float:
    hz, _, spectra = signal.stft(samples, rate, nperseg=512)
    return float(stats.kurtosis(np.abs(spectra[hz > 6_500]) ** 2, axis=1, fisher=False).mean())


def test_noise_that_changes_in_a_very_long_take_is_followed_to_the_end():
    rate, length = 8_000, 900.0
    noise = 1e-3 * np.random.default_rng(3).standard_normal(round(length * rate))
    noise[round(700.0 * rate) :] *= 10 ** (8 / 20)
    hz, power = signal.welch(noise[: 700 * rate], rate, nperseg=1_024, scaling="spectrum")
    track = track_of(lambda start, count: noise[None, start : start + count], rate, [(0.0, length)], (hz, power))
    assert len(track) <= 2_000 and track[-1][0] > 895
    assert np.allclose(levels_at(track, np.array([400.0, 890.0]), np.array([1_000.0])).ravel(), [0.0, 8.0], atol=1.0)
