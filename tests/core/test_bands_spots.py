"""Bands and Spots: filters against their prototypes, known rings in voices, boxes that change nothing else."""

import numpy as np
import pytest
import soundfile as sf
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from conftest import Written, reader, write
from isophon.cli import main
from isophon.core.audio.bell import BELL, HIGH_SHELF, LOW_SHELF, Bell, power_response, taps
from isophon.core.errors import InputError
from isophon.core.finding import find_all, survey_recording
from isophon.core.marks import Hand
from isophon.core.passes.band.mark import BandMark
from isophon.core.passes.band.settings import BandSettings, centre_of, change_of, edges_of
from isophon.core.passes.filters import BandFilter
from isophon.core.passes.spot.file import load_spots
from isophon.core.passes.spot.outline import SpotShape
from isophon.core.passes.spot.treat import SpotCut
from isophon.core.render import Renderer
from voices import cookbook, spoken

NOISE = np.random.default_rng(3)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
@pytest.mark.parametrize("bell", [Bell(310, 9, -8), Bell(2_700, 18, -9), Bell(9_000, 1, 6), Bell(15_000, 2, -12),
                                  Bell(200, 1, -6, LOW_SHELF), Bell(6_000, 1, 9, HIGH_SHELF)])  # fmt: skip
def test_filters_follow_the_analog_prototypes_up_to_20_khz(bell, rate):
    """W3C Audio EQ Cookbook's H(s), evaluated by scipy's freqs; within 0.1 dB, no cramping."""
    a = 10 ** (bell.gain_db / 40)
    side = np.sqrt(a) / 0.7071
    above, below = {
        BELL: ([1, a / bell.q, 1], [1, 1 / (a * bell.q), 1]),
        LOW_SHELF: ([a, a * side, a * a], [a, side, 1]),
        HIGH_SHELF: ([a * a, a * side, a], [1, side, a]),
    }[bell.shape]
    hz = np.geomspace(30, 20_000, 400)
    prototype = 20 * np.log10(np.abs(signal.freqs(above, below, hz / bell.freq_hz)[1]))
    assert np.abs(10 * np.log10(power_response(bell, hz)) - prototype).max() < 1e-6
    made = 20 * np.log10(np.abs(signal.freqz(taps((bell,), rate), worN=hz, fs=rate)[1]))
    assert np.abs(made - prototype).max() < 0.1
    early = np.abs(taps((bell,), rate))
    assert early[0] > 0.2 and np.argmax(early) == 0, "minimum phase: most of it comes at once"


@pytest.mark.parametrize(("name", "hz", "q", "db"), [("de", 420.0, 8.0, 8.0), ("it+f1", 1_250.0, 12.0, 11.0)])
def test_a_ring_in_a_room_is_found_and_halved_and_a_clean_voice_has_none(name, hz, q, db):
    """A resonance over voice and room alike; found within 3 % and 2 dB; nothing is cut of the same voice without it."""
    samples, rate, _ = spoken(name)
    room = NOISE.standard_normal(len(samples) + rate) * np.sqrt(np.mean(samples**2)) * 10 ** (-45 / 20)
    clean = room + np.pad(samples, (rate // 2, rate - rate // 2))
    rung = signal.sosfilt(cookbook(hz, q, db, rate), clean)
    found = {}
    for label, take in (("clean", clean), ("rung", rung)):
        recording = Written(take, rate)
        marks = find_all(recording, survey_recording(recording), wanted=("band",)).marks
        found[label] = [m for m in marks if m.kind == "band" and change_of(m, BandSettings()) < 0]
    assert not found["clean"], [centre_of(m) for m in found["clean"]]
    near = min(found["rung"], key=lambda m: abs(centre_of(m)[0] - hz))
    assert centre_of(near)[0] == pytest.approx(hz, rel=0.03) and near.standout_db == pytest.approx(db, abs=2)
    assert len(found["rung"]) == 1 and change_of(near, BandSettings()) <= -0.5 * db


@pytest.mark.parametrize(("name", "hz", "q", "db"), [("de", 320.0, 1.0, 6.0), ("de", 260.0, 1.3, 7.0)])
def test_mud_is_found_as_deep_as_it_is_and_comes_to_the_ceiling(name, hz, q, db):
    """A broad bell over voice and room; in the room alone, under a voice that is thin there, nothing is cut."""
    samples, rate, _ = spoken(name)
    level = np.sqrt(np.mean(samples**2))
    room = NOISE.standard_normal(len(samples) + rate) * level * 10 ** (-48 / 20)
    voice = np.pad(samples, (rate // 2, rate - rate // 2)).astype(np.float64)
    muddy = signal.sosfilt(cookbook(hz, q, db, rate), room)
    thin = signal.sosfilt(signal.butter(2, 700, "high", fs=rate, output="sos"), voice)
    takes = {"clean": voice + room, "muddy": signal.sosfilt(cookbook(hz, q, db, rate), voice) + muddy,
             "only the room": thin + muddy}  # fmt: skip
    found = {}
    for label, take in takes.items():
        recording = Written(take, rate)
        marks = find_all(recording, survey_recording(recording), wanted=("band",)).marks
        bands = [m for m in marks if m.kind == "band" and centre_of(m)[1] < 2.7]
        found[label] = [(m, change_of(m, BandSettings())) for m in bands]
    assert not found["clean"] and not any(change for _, change in found["only the room"])
    ((mark, change),) = found["muddy"]
    assert abs(np.log2(centre_of(mark)[0] / hz)) < 1 / 6 and mark.standout_db == pytest.approx(db, abs=1.5)
    assert change == pytest.approx(2.0 - mark.standout_db)


def test_what_a_hand_says_of_a_band_counts_and_bounds_hold():
    low, high = edges_of(1_000.0, 5.0)
    mark = BandMark("b", 0.0, 10.0, 8.0, 8.0, low, high, 0.9, shape="always")
    assert centre_of(mark) == pytest.approx((1_000.0, 5.0), rel=1e-3)
    assert change_of(mark, BandSettings()) == -6.0 and change_of(mark, BandSettings(limit_db=-3.0)) == -3.0
    for hand, change in ((Hand(leave=True), 0.0), (Hand(change_db=9.0), 9.0), (Hand(change_db=-50.0), -36.0),
                         (Hand(change_db=-8.0, blend=0.5), -4.0), (Hand(agreed=True), -6.0)):  # fmt: skip
        band = BandMark("b", 0, 10, 8, 8, low, high, 0.9, shape="always", hand=hand)
        assert change_of(band, BandSettings()) == change
    assert change_of(BandMark("b", 0, 10, 8, 8, low, high, 0.4), BandSettings()) == 0.0, "not sure enough"


PLANS = (
    (BandFilter(0, 90_000, (Bell(400, 5, -6), Bell(3_000, 9, 4))),
     BandFilter(20_000, 40_000, (Bell(900, 8, -9),), 1_440)),
    (SpotCut(10_000, 30_000, (2_400, 1_200), 1_000, 2_000, -12.0), SpotCut(28_000, 50_000, (500, 900), 0, 0, 6.0),
     SpotCut(60_000, 80_000, (2_400, 2_400), 300, 6_000, -3.0, ((500.0, -6.0), (2_000.0, 3.0)))),
)  # fmt: skip


@settings(max_examples=25, deadline=None)
@given(st.sampled_from(PLANS), st.integers(-1_000, 91_000), st.integers(1, 30_000))
def test_any_span_is_that_span_of_the_whole(plan, start, frames):
    samples = NOISE.standard_normal(90_000) * 0.1
    whole = Renderer(reader(samples), 48_000, 90_000).cleaned(plan, -1_000, 123_000)
    alone = Renderer(reader(samples), 48_000, 90_000).cleaned(plan, start, frames)
    assert np.abs(alone - whole[:, start + 1_000 : start + 1_000 + frames]).max() < 1e-6


@pytest.mark.parametrize(("low", "high", "db"), [(1_000, 2_000, -12), (0, 0, 6), (200, 300, -9), (5_000, 12_000, 9)])
def test_a_box_changes_what_is_in_it_by_what_was_asked_and_nothing_else(tmp_path, low, high, db):
    """Inside within 0.5 dB; 60 ms and a third of an octave away at −55 dB or less of what is there."""
    rate, start, end = 44_100, 1.0, 1.6
    samples = NOISE.standard_normal(3 * rate) * 0.05
    take = write(tmp_path / "take.wav", samples, rate, "FLOAT")
    (tmp_path / "spots.txt").write_text(f"# a chair\n{start}\t{end}\t{low}\t{high}\t{db}\n")
    call = ["clean", str(take), "--only", "spot", "--spots", str(tmp_path / "spots.txt"), "--depth", "32f",
            "--out", str(tmp_path / "o"), "--quiet"]  # fmt: skip
    assert main(call) == 0
    out, sung = sf.read(tmp_path / "o" / "take.clean.wav")[0], sf.read(take)[0]
    changed = out - sung
    inside = slice(round(start * rate), round(end * rate))
    assert not changed[: round((start - 0.06) * rate)].any() and not changed[round((end + 0.06) * rate) :].any()
    window = signal.get_window("blackmanharris", inside.stop - inside.start)
    power = {k: np.square(np.abs(np.fft.rfft(v[inside] * window))) for k, v in
             (("out", out), ("sung", sung), ("changed", changed))}  # fmt: skip
    hz = np.fft.rfftfreq(inside.stop - inside.start, 1 / rate)
    here = (hz > low * 1.03) & (hz < high / 1.03) if high else hz > 30
    assert 10 * np.log10(power["out"][here].sum() / power["sung"][here].sum()) == pytest.approx(db, abs=0.5)
    if high:
        away = (hz < low / 2 ** (1 / 3)) | (hz > high * 2 ** (1 / 3))
        assert 10 * np.log10(power["changed"][away].sum() / power["sung"][away].sum()) < -55


@pytest.mark.parametrize("line", ["1 2 3", "1 x 0 0 -3", "2 1 0 0 -3", "1 2 500 200 -3", "1 2 0 0 40", "1 99 0 0 -3",
                                  "nan 2 0 0 -3", "1 2 300 300 -3"])  # fmt: skip
def test_a_spots_file_that_is_wrong_names_its_line(tmp_path, line, capsys):
    path = tmp_path / "spots.txt"
    path.write_text(f"1.0 1.5 0 0 -3\n\n{line}\n")
    with pytest.raises(InputError, match="line 3"):
        load_spots(path, 10.0)
    assert main(["find", "x.wav", "--only", "spot"]) == 2 and "--spots" in capsys.readouterr().err


def test_words_are_as_high_as_they_stand_out_of_their_phrase_and_come_down_on_request():
    samples, rate, _ = spoken("en-us")
    recording = Written(samples, rate)
    first = [m for m in find_all(recording, survey_recording(recording), wanted=("spot",)).marks if m.kind == "spot"]
    assert len(first) > 5 and np.median([m.standout_db for m in first]) < 3
    word = first[len(first) // 2]
    louder = samples.copy()
    louder[round(word.start * rate) : round(word.end * rate)] *= 10 ** (8 / 20)
    recording = Written(louder, rate)
    again = [m for m in find_all(recording, survey_recording(recording), wanted=("spot",)).marks if m.kind == "spot"]
    same = min(again, key=lambda m: abs(m.start - word.start))
    assert 3 < same.standout_db - word.standout_db < 8.5, "the phrase rises with its word"


def test_a_free_outline_takes_down_what_lies_in_it_and_spans_equal_the_whole():
    """A triangle over white noise: −18 dB well inside, nothing outside of it and bit for bit beside its time."""
    rate = 48_000
    noise = np.random.default_rng(4).standard_normal((1, 2 * rate)).astype(np.float32) * 0.1
    corners = ((rate // 2, 2_000.0), (rate * 3 // 2, 2_000.0), (rate, 14_000.0))
    shape = SpotShape(rate // 2 - 1_024, rate * 3 // 2 + 1_024, corners, -18.0)
    whole = Renderer(reader(noise), rate, 2 * rate).cleaned((shape,), 0, 2 * rate)
    for at in (23_000, 47_111, 71_000):
        span = Renderer(reader(noise), rate, 2 * rate).cleaned((shape,), at, 5_003)
        assert np.allclose(span, whole[:, at : at + 5_003], atol=1e-7)
    for beside in (slice(0, shape.first), slice(shape.last, None)):
        assert np.array_equal(whole[:, beside], noise[:, beside])
    hz, times, before = signal.stft(noise[0], rate, nperseg=2_048)
    _, _, after = signal.stft(whole[0], rate, nperseg=2_048)

    def change(low, high, start, end):
        where = np.ix_((hz > low) & (hz < high), (times > start) & (times < end))
        return 10 * np.log10((np.abs(after[where]) ** 2).mean() / (np.abs(before[where]) ** 2).mean())

    assert change(3_000, 6_000, 0.9, 1.1) == pytest.approx(-18, abs=1.0)
    assert abs(change(15_500, 20_000, 0.7, 1.3)) < 0.05 and abs(change(100, 1_500, 0.7, 1.3)) < 0.05
    assert abs(change(9_000, 13_000, 0.55, 0.7)) < 0.1, "beside the slanted side"
