"""Bands by level: the static curve and the times of the published design, two tones, and rings of loud words."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from scipy import signal

from conftest import Written, reader, write
from isophon.cli import main
from isophon.core.audio.loudness import db
from isophon.core.finding import find_all, survey_recording
from isophon.core.passes.band.by_level import LevelCut, excess_db, taken_off, tick_of
from isophon.core.passes.band.loud import STAYS_OCTAVES, wanders
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.band.settings import BandSettings, centre_of, change_of, edges_of
from isophon.core.render import Renderer
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from voices import cookbook, spoken, with_loud_ring

RATE = 48_000
NOISE = np.random.default_rng(5)


def tone(hz: float, seconds: float, level_db: float = -20.0) -> np.ndarray:
    return 10 ** (level_db / 20) * np.sqrt(2) * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


def rendered(samples: np.ndarray, cut: LevelCut) -> np.ndarray:
    take = samples[None].astype(np.float32)
    return Renderer(reader(take), RATE, take.shape[1]).cleaned((cut,), 0, take.shape[1])[0].astype(np.float64)


def cut_of(over_db: float, frames: int, **more) -> LevelCut:
    how = {"depth_db": 24.0, "ratio": 4.0, "attack_s": 0.005, "release_s": 0.08, **more}
    return LevelCut(0, frames, 1, 2_400.0, 8.0, over_db, **how)


@pytest.mark.parametrize(("ratio", "over", "depth"), [(2.0, 6.0, 24.0), (4.0, 10.0, 24.0), (100.0, 8.0, 24.0),
                                                      (4.0, 12.0, 5.0), (4.0, -3.0, 24.0)])  # fmt: skip
def test_the_static_curve(ratio, over, depth):
    """Giannoulis, Massberg & Reiss 2012, eq. 4 with a hard knee, up to the limit; within 0.5 dB."""
    sung = tone(2_400.0, 2.0)
    stands = float(np.median(excess_db(sung[None], RATE, 2_400.0, 8.0)[500:]))
    out = rendered(sung, cut_of(stands - over, len(sung), ratio=ratio, depth_db=depth))
    middle = slice(RATE, RATE + RATE // 2)
    taken = db(float(np.mean(sung[middle] ** 2))) - db(float(np.mean(out[middle] ** 2)))
    assert taken == pytest.approx(min(depth, max(0.0, over) * (1 - 1 / ratio)), abs=0.5)


def test_attack_and_release_take_their_times():
    """The same paper's smoothing: 63 % of the way after one time constant; within 20 %."""
    beside = tone(2_400.0 / 2 ** (1 / 3), 3.0) + tone(2_400.0 * 2 ** (1 / 3), 3.0)
    there = np.zeros(len(beside))
    there[RATE : 2 * RATE] = 1.0
    sung = beside + tone(2_400.0, 3.0, -40.0) + there * tone(2_400.0, 3.0, -8.0)
    cut = cut_of(2.0, len(sung), ratio=100.0, depth_db=6.0, attack_s=0.04, release_s=0.15)
    taken, tick = taken_off(excess_db(sung[None], RATE, 2_400.0, 8.0), RATE, cut), tick_of(RATE) / RATE
    came = (np.argmax(taken >= 0.632 * 6.0) * tick - 1.0, 0.04)
    went = (np.argmax((taken <= 0.368 * 6.0) & (np.arange(len(taken)) * tick > 2.0)) * tick - 2.0, 0.15)
    for took, wanted in (came, went):
        assert took == pytest.approx(wanted, rel=0.2)


@pytest.mark.parametrize("cents", [0, 60])
def test_a_held_note_through_a_ring_is_not_pumped(cents):
    """With a vibrato of 5.5 Hz too (common practice: 5 to 7 Hz, up to a semitone wide)."""
    at = np.arange(3 * RATE) / RATE
    phase = 2 * np.pi * np.cumsum(220 * 2 ** (cents / 1200 * np.sin(2 * np.pi * 5.5 * at))) / RATE
    note = sum(0.1 * k**-1.2 * np.sin(k * phase) for k in range(1, 31))
    rung = signal.sosfilt(cookbook(2_400.0, 8.0, 9.0, RATE), note)
    cut = cut_of(0.0, len(rung), depth_db=9.0, ratio=8.0, release_s=BandSettings().release_ms / 1000)
    taken = taken_off(excess_db(rung[None], RATE, 2_400.0, 8.0), RATE, cut)[500:2_500]
    assert taken.min() > 4.0 and np.ptp(taken) < 1.0


def test_of_two_tones_only_the_one_that_stands_over_comes_down():
    sung = tone(700.0, 2.0, -14.0) + tone(2_400.0, 2.0, -26.0)
    out = rendered(sung, cut_of(6.0, len(sung), depth_db=9.0, ratio=20.0))
    spectra = [np.abs(np.fft.rfft(x[RATE // 2 : 3 * RATE // 2] * np.hanning(RATE))) for x in (sung, out)]
    change = 20 * np.log10(spectra[1] / spectra[0])
    assert abs(change[700]) < 0.1 and change[2_400] == pytest.approx(-9.0, abs=0.5)


def test_nothing_sounds_before_it_is_sung():
    click = np.zeros(RATE)
    click[RATE // 2] = 1.0
    out = rendered(click, cut_of(-60.0, len(click), depth_db=12.0))
    assert not out[: RATE // 2].any()


@settings(max_examples=12, deadline=None)
@given(start=st.integers(0, 60_000), frames=st.integers(1, 30_000))
def test_any_block_is_the_same_samples(start, frames):
    take = (0.1 * NOISE.standard_normal((2, 100_000)) + tone(2_400.0, 100_000 / RATE)).astype(np.float32)
    cut = LevelCut(20_000, 80_000, 1_440, 2_400.0, 8.0, 3.0, 9.0, 8.0, 0.005, 0.08)
    renderer = Renderer(reader(take), RATE, take.shape[1])
    whole = renderer.cleaned((cut,), 0, take.shape[1])
    assert np.array_equal(renderer.cleaned((cut,), start, frames), whole[:, start : start + frames])
    assert np.array_equal(whole[:, :20_000], take[:, :20_000]) and not np.array_equal(whole, take)


@pytest.mark.parametrize(("name", "hz"), [("de+f2", 2_500.0), ("en-us+f3", 3_100.0)])
def test_a_ring_of_loud_words_is_found_and_comes_down_in_them_alone(name, hz):
    clean, rung, rate, spans, loud = with_loud_ring(name, hz, 9.0, 11.0)
    found = {}
    for label, take in (("clean", clean), ("rung", rung)):
        recording = Written(take, rate)
        survey = survey_recording(recording)
        marks = [m for m in find_all(recording, survey, wanted=("band",)).marks if isinstance(m, BandMark)]
        source = Source("v.wav", rate, 1, recording.frames)
        found[label] = Part("p", "p", source, marks=tuple(m for m in marks if m.is_by_level), found=True)
    assert not found["clean"].changed("band")
    part = found["rung"]
    mark, _ = min(part.changed("band"), key=lambda one: one[1])
    assert abs(np.log2(centre_of(mark)[0] / hz)) < 1 / 6
    out = Renderer(reader(rung[None].astype(np.float32)), rate, len(rung)).cleaned(part.plan, 0, len(rung))[0]
    band = signal.butter(2, [hz * 0.95, hz * 1.05], "band", fs=rate, output="sos")
    before, after = (signal.sosfiltfilt(band, x.astype(np.float64)) for x in (rung, out))
    down = {span: db(np.mean(before[round(span[0] * rate) : round(span[1] * rate)] ** 2))
            - db(np.mean(after[round(span[0] * rate) : round(span[1] * rate)] ** 2)) for span in spans}  # fmt: skip
    assert np.mean([down[span] for span in loud]) > 3.0
    assert np.mean([abs(down[span]) for span in spans if span not in loud]) < 1.0


def test_what_moves_along_the_frequencies_from_word_to_word_is_no_ring():
    cells, at = np.arange(200), 110
    for moves, stays in (((0, 1, 0, -1, 0, 1), True), ((-4, 3, 0, -3, 4, 1), False)):
        closely = np.array([6 * np.exp(-(((cells - at - move) / 1.5) ** 2)) for move in moves])
        assert (wanders(closely, at) <= STAYS_OCTAVES) == stays


def test_what_settings_and_hand_say_of_a_band_by_level():
    low, high = edges_of(2_400.0, 8.0)
    mark = BandMark("b", 1.0, 2.0, -20.0, 8.0, low, high, 0.7, shape="loud", by="level", usual_db=1.0)
    assert change_of(mark, BandSettings()) == -6.0 and change_of(mark, BandSettings(by_level=False)) == 0.0
    assert change_of(replace(mark, hand=mark.changed(-4.0)), BandSettings(by_level=False)) == -4.0
    part = Part("p", "p", Source("v.wav", RATE, 1, 3 * RATE), marks=(mark,))
    (cut,) = part.plan
    assert (cut.over_db, cut.depth_db, cut.first, cut.last) == (1.0, 6.0, RATE - 1_440, 2 * RATE + 1_440)


def test_bands_are_set_by_a_file_of_what_find_prints(tmp_path, capsys):
    samples, rate, _ = spoken("de")
    take = write(tmp_path / "take.wav", samples, rate)
    rows = [{"freq_hz": 2_400, "q": 8, "change_db": -6, "by": "level", "over_db": -3.0, "words": [[0.5, 1.5]]},
            {"freq_hz": 300, "q": 1.0, "change_db": -3.0}]  # fmt: skip
    (tmp_path / "bands.json").write_text(json.dumps(rows))
    call = ["find", str(take), "--json", "--only", "band", "--quiet", "--bands", str(tmp_path / "bands.json")]
    assert main(call) == 0
    told = json.loads(capsys.readouterr().out)
    rows_told = [(b["freq_hz"], b["by"], b["change_db"]) for b in told["bands"]]
    assert rows_told == [(300, "always", -3), (2_400, "level", -6)]
    assert told["bands"][1]["over_db"] == -3.0 and told["bands"][1]["words"] == [[0.5, 1.5]]
    (tmp_path / "again.json").write_text(json.dumps(told))
    assert main([*call[:-1], str(tmp_path / "again.json")]) == 0
    assert json.loads(capsys.readouterr().out)["bands"] == told["bands"]
    for bad, words in (("[]{", "holds no bands"), ('[{"freq_hz": 5, "q": 1, "change_db": 0}]', "freq_hz"),
                       (json.dumps([rows[1]] * 13), "12 is the most"),
                       ('[{"freq_hz": 500, "q": 1, "change_db": -3, "words": [[5, 4]]}]', "no span")):  # fmt: skip
        (tmp_path / "bands.json").write_text(bad)
        assert main(call) == 3 and words in capsys.readouterr().err
