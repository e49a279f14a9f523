"""Bleed: known leaks of a cue are found, predicted and taken out; where there is none, nothing happens."""

import json
import shutil

import numpy as np
import pytest
import soundfile as sf
import soxr
from msgspec.structs import replace
from scipy import signal

from conftest import write
from isophon.cli import main
from isophon.core.audio.files import Recording
from isophon.core.audio.leak import Leak
from isophon.core.demo.band import _click
from isophon.core.demo.blemishes import ear_to_microphone
from isophon.core.errors import InputError
from isophon.core.finding import survey_recording
from isophon.core.passes.bleed.leak import Cue, learn_leak
from isophon.core.passes.bleed.learn import moved
from isophon.core.passes.bleed.settings import BleedCut
from isophon.core.passes.bleed.sync import synchronize
from isophon.core.render import TILE, Renderer
from isophon.core.session import adopting, edits, file, layout
from isophon.core.takes import cache as take_cache
from isophon.core.work.leak_learning import CueFile, Lesson, learn, lesson_again
from voices import ALSA, alsa, spoken

RATE = 24_000


@pytest.fixture(scope="module")
def cue(demo):
    samples, rate = sf.read(demo.parent / "Cue.wav", dtype="float32")
    return soxr.resample(samples, rate, RATE)


@pytest.fixture(scope="module")
def voice():
    samples, rate, _ = spoken("es+f4")
    return soxr.resample(np.tile(samples, 3), rate, RATE).astype(np.float32)


def leaked(voice, feed, under_db, seed=3):
    """The feed through a headphone and a small room, ``under_db`` under the voice, and faint room noise."""
    way = soxr.resample(ear_to_microphone(seed), 48_000, RATE)
    leak = signal.oaconvolve(feed, way)[: len(voice)]

    def loud(x):
        return np.sqrt(np.mean(x[np.abs(x) > 0.05 * np.abs(x).max()] ** 2))

    leak *= loud(voice) / loud(leak) * 10 ** (-under_db / 20)
    room = np.random.default_rng(1).standard_normal(len(voice)) * loud(voice) * 10 ** (-70 / 20)
    return leak.astype(np.float32), (voice + leak + room).astype(np.float32)


def better_db(leak, taken):
    return 10 * np.log10(np.mean(leak**2) / np.mean((leak - taken) ** 2))


@pytest.mark.parametrize(("under_db", "rate"), [(40, RATE), (25, 44_100)])
def test_a_leak_far_under_the_voice_is_predicted(voice, cue, under_db, rate):
    feed = cue[: len(voice)]
    leak, take = leaked(voice, feed, under_db)
    if rate != RATE:
        voice, feed, leak, take = (soxr.resample(x, RATE, rate, "VHQ") for x in (voice, feed, leak, take))
    taken = learn_leak(take[None], rate, [Cue("cue", feed[None], rate)], "k")
    assert taken.facts.key == "k" and taken.facts.delay_s == pytest.approx(0.0006, abs=0.0004)
    assert better_db(leak, taken.leak[0]) > 10
    around = np.ones(rate // 20) / (rate // 20)
    still = np.sqrt(signal.oaconvolve(voice**2, around, "same").clip(0)) < 1e-4
    before, after = (np.mean(x[still] ** 2) for x in (leak, leak - taken.leak[0]))
    assert 10 * np.log10(before / after) > 12
    left = take - taken.leak[0] - taken.rest[0]
    assert np.mean((left - take + leak)[still] ** 2) < 1.2 * after, "what was missed comes down too"


def test_few_clicks_between_the_words_are_enough():
    """alsa-utils' recorded words with half a second of room after each fourth only, and a click 20 dB under them."""
    words = [soxr.resample(*alsa(path.stem), RATE) for path in sorted(ALSA.glob("*_*.wav"))]
    words = [word[np.flatnonzero(np.abs(word) > 0.02 * np.abs(word).max())[0] :] for word in words]
    rests = [np.zeros(round(RATE * (0.5 if i % 4 == 3 else 0.02))) for i in range(16)]
    sung = [np.concatenate([words[3 * i % len(words)], rest]) for i, rest in enumerate(rests)]
    voice = np.concatenate([np.zeros(RATE), *sung]).astype(np.float32)
    click, feed = soxr.resample(_click(1_500.0), 48_000, RATE), np.zeros(len(voice), np.float32)
    for at in np.arange(1.2, len(voice) / RATE - 0.6, 60 / 92):
        feed[round(at * RATE) :][: len(click)] += click
    leak, take = leaked(voice, feed, 20)
    taken = learn_leak(take[None], RATE, [Cue("cue", feed[None], RATE)], "k")
    assert better_db(leak, taken.leak[0]) > 28


def test_a_leak_that_moves_is_followed(voice, cue):
    """A head that turns: ±30 µs and ±1.5 dB in some seconds."""
    feed = cue[: len(voice)]
    leak, _ = leaked(voice, feed, 25)
    time = np.arange(len(voice)) / RATE
    late = 30e-6 * np.sin(2 * np.pi * time / 5)
    fine = soxr.resample(leak, RATE, 8 * RATE, "VHQ")
    leak = np.interp(time - late, np.arange(len(fine)) / (8 * RATE), fine) * 10 ** (
        0.075 * np.cos(2 * np.pi * time / 7)
    )
    room = np.random.default_rng(1).standard_normal(len(voice)) * 1e-5
    taken = learn_leak((voice + leak + room).astype(np.float32)[None], RATE, [Cue("cue", feed[None], RATE)], "k")
    still = np.sqrt(signal.oaconvolve(voice**2, np.ones(1_200) / 1_200, "same").clip(0)) < 1e-4
    assert better_db(leak[still], taken.leak[0][still]) > 20


def test_the_top_of_a_click_goes_as_well(voice):
    """Clicks are short: what leaks of them over 11 kHz would stay to be heard alone."""
    count = 12 * 48_000
    feed = np.zeros(count, np.float32)
    burst = np.random.default_rng(2).standard_normal(48) * np.hanning(48)
    for at in range(0, count - 48, 24_000):
        feed[at : at + 48] = burst
    leak = signal.sosfilt(signal.butter(2, 12_000, fs=48_000, output="sos"), np.roll(feed, 100)) * 0.02
    take = soxr.resample(voice, RATE, 48_000)[:count] + leak + np.random.default_rng(1).standard_normal(count) * 1e-5
    taken = learn_leak(take.astype(np.float32)[None], 48_000, [Cue("cue", feed[None], 48_000)], "k")
    top = signal.butter(6, [11_000, 13_500], "band", fs=48_000, output="sos")
    before, after = (np.mean(signal.sosfilt(top, x) ** 2) for x in (leak, leak - taken.leak[0]))
    assert 10 * np.log10(before / after) > 12


def test_another_song_and_no_leak_change_nothing(voice, cue, demo):
    other = soxr.resample(sf.read(demo.parent / "Music.wav", dtype="float32")[0][:, 0], 48_000, RATE)[: len(voice)]
    _, take = leaked(voice, cue[: len(voice)], 30)
    for samples, feed in ((take, other), (voice, cue[: len(voice)])):
        taken = learn_leak(samples[None], RATE, [Cue("other", feed[None], RATE)], "k")
        assert taken.facts.key == "" and not taken.leak.any() and not taken.rest.any()


def test_another_rate_an_offset_and_two_sides(voice, cue):
    feed = cue[: len(voice)]
    other = np.random.default_rng(4).standard_normal(len(feed)).astype(np.float32) * 0.02
    right = 0.6 * feed + signal.lfilter([1], [1, -0.9], other).astype(np.float32)
    one, take = leaked(voice, feed, 30)
    two, _ = leaked(voice, right, 33, seed=5)
    late = round(0.73 * RATE)
    whole = np.concatenate([np.zeros(late, np.float32), take + two])
    sides = np.stack([soxr.resample(x, RATE, 22_050) for x in (feed, right)])
    taken = learn_leak(whole[None], RATE, [Cue("cue", sides, 22_050)], "k")
    assert taken.facts.delay_s == pytest.approx(0.7306, abs=0.002)
    assert better_db(one + two, taken.leak[0][late:]) > 8


def test_a_drifting_clock_is_followed(voice, cue):
    """50 ppm, as two devices without a common clock may have (common practice: up to 100)."""
    at = np.arange(len(voice)) / (1 + 50e-6)
    drifting = np.interp(at, np.arange(len(cue)), cue).astype(np.float32)
    leak, take = leaked(voice, drifting, 30)
    sync = synchronize(take, cue[None, : len(voice)], RATE)
    assert sync.found and sync.ppm == pytest.approx(50, abs=6)
    taken = learn_leak(take[None], RATE, [Cue("cue", cue[None, : len(voice)], RATE)], "k")
    assert better_db(leak, taken.leak[0]) > 5


def test_the_cue_is_found_within_two_seconds(voice):
    """The correlation is by definition highest at the delay (Knapp & Carter 1976); the feed is a guide voice."""
    samples, rate, _ = spoken("en-us")
    guide = soxr.resample(np.tile(samples, 3), rate, RATE).astype(np.float32)
    for late in (-1.7, -0.2, 0.9, 1.8):
        _, take = leaked(voice, moved(guide, round(late * RATE), len(voice)), 35)
        assert synchronize(take, guide[None, : len(voice)], RATE).delay_s == pytest.approx(late, abs=0.002)


def test_what_is_taken_out_is_scaled_left_and_the_same_in_every_span(voice, cue):
    feed = cue[: len(voice)]
    _, take = leaked(voice, feed, 30)
    taken = learn_leak(take[None], RATE, [Cue("cue", feed[None], RATE)], "k")
    arrays = (taken.leak, taken.rest)

    def clean(much, careful, left=()):
        renderer = Renderer(lambda s, n: _read(take, s, n), RATE, len(take), sounds=lambda key: arrays)
        plan = (BleedCut(0, len(take), "k", much, careful, left),)
        return renderer, plan, renderer.cleaned(plan, 0, len(take))[0]

    _, _, all_of_it = clean(1.0, 0.0)
    assert np.allclose(all_of_it, take - taken.leak[0] - taken.rest[0], atol=1e-7)
    renderer, plan, some = clean(0.5, 1.0, ((30_000, 40_000),))
    assert np.allclose(some[:20_000], (take - 0.5 * taken.leak[0])[:20_000], atol=1e-7)
    assert np.array_equal(some[30_000:40_000], take[30_000:40_000])
    span = renderer.cleaned(plan, TILE - 40, 30_000)[0]
    assert np.array_equal(span, some[TILE - 40 : TILE + 29_960])


def _read(samples, start, frames):
    out = np.zeros((1, frames), np.float32)
    first, last = max(0, start), min(len(samples), start + frames)
    if last > first:
        out[0, first - start : last - start] = samples[first:last]
    return out


def test_the_command_line_takes_a_cue(voice, cue, demo, tmp_path, capsys):
    feed = cue[: len(voice)]
    leak, take = leaked(voice, feed, 28)
    files = [str(write(tmp_path / f"{name}.wav", x, RATE, "FLOAT")) for name, x in (("take", take), ("feed", feed))]
    assert main(["find", files[0], "--cue", files[1], "--json", "--only", "bleed", "--quiet"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["bleed"]["found"] and told["bleed"]["less_db"] > 5
    assert told["marks"] and all(m["kind"] == "bleed" and m["change_db"] <= 0 for m in told["marks"])
    call = [
        "clean",
        files[0],
        "--cue",
        files[1],
        "--only",
        "bleed",
        "--out",
        str(tmp_path),
        "--depth",
        "32f",
        "--quiet",
    ]
    assert main(call) == 0
    out = sf.read(tmp_path / "take.clean.wav", dtype="float32")[0]
    assert 10 * np.log10(np.mean(leak**2) / np.mean((out - take + leak) ** 2)) > 10
    other = str(demo.parent / "Music.wav")
    assert main([*call[:3], other, *call[4:], "--force"]) == 0
    assert "no leak of Music.wav was found" in capsys.readouterr().err
    assert np.array_equal(sf.read(tmp_path / "take.clean.wav", dtype="float32")[0], take)
    assert main(["find", files[0], "--cue", str(tmp_path / "none.wav")]) == 3
    assert "none.wav: no such file" in capsys.readouterr().err


def test_another_singer_in_the_room_is_a_cue_too(voice):
    """Two microphones in one room, each hearing the other singer 25 dB lower (common practice: 20 to 30 dB)."""
    samples, rate, _ = spoken("de+f2")
    other = soxr.resample(np.tile(samples, 4), rate, RATE)[: len(voice)].astype(np.float32)
    leak, take = leaked(voice, np.resize(other, len(voice)), 25)
    _, near = leaked(np.resize(other, len(voice)), voice, 25, seed=6)
    taken = learn_leak(take[None], RATE, [Cue("other", near[None], RATE)], "k")
    assert taken.facts.key == "k" and better_db(leak, taken.leak[0]) > 15
    own = np.mean((taken.leak[0] - leak) ** 2) / np.mean(voice**2)
    assert 10 * np.log10(own) < -38, "the singer's own voice in the other microphone is not taken out of this one"


def test_a_leak_is_learned_from_chosen_moments_alone(voice, cue):
    """Where the headphones were turned down in the middle, each half tells of another leak."""
    feed, half = cue[: len(voice)], len(voice) // 2
    leak, take = leaked(voice, feed, 28)
    both = leak * np.where(np.arange(len(leak)) < half, 1.0, 0.4)
    take, level = take - leak + both, {}
    for begin, end, true in ((0.5, half / RATE - 0.5, 1.0), (half / RATE + 0.5, len(voice) / RATE, 0.4)):
        taken = learn_leak(take[None].astype(np.float32), RATE, [Cue("cue", feed[None], RATE)], "k",
                           moments=[(begin, end)])  # fmt: skip
        inside = slice(round(begin * RATE), round(end * RATE))
        assert better_db(both[inside], taken.leak[0][inside]) > 3
        level[true] = np.linalg.norm(np.frombuffer(taken.facts.path, np.float32))
    assert 0.2 < level[0.4] / level[1.0] < 0.7


@pytest.fixture
def laid(voice, cue, tmp_path):
    """A session of one take, its cue and another take; the take's recording and its leak."""
    feed = cue[: len(voice)]
    leak, take = leaked(voice, feed, 28)
    paths = [write(tmp_path / f"{name}.wav", x, RATE, "FLOAT") for name, x in (("take", take), ("feed", feed))]
    sources = []
    for path in paths:
        with Recording(path) as recording:
            sources.append(layout.source_of(recording))
    arrivals = [layout.Arrival("take", sources[0]), layout.Arrival("feed", sources[1], "cue")]
    session = layout.new_session("song", arrivals)
    return session, paths, leak


def test_a_session_learns_again_what_is_gone(laid, tmp_path, capsys):
    """What was learned is named in the session; on another machine its sound is learned again, and nothing is lost."""
    session, paths, leak = laid
    lesson = Lesson((CueFile(str(paths[1]), 0.0, session.guides[0].id),), ((0.0, 12.0),))
    with Recording(paths[0]) as recording:
        survey = survey_recording(recording)
        learned = learn(recording, lesson, survey)
    session = adopting.adopt_leak(session, "part-1", learned.facts, learned.marks)
    part = session.part("part-1")
    assert part.bleed.learn_to == 12.0 and part.leak.feeds[0].item == session.guides[0].id
    again = lesson_again(session, part)
    assert again.cues == lesson.cues and again.moments == lesson.moments and again.key == part.leak.key
    assert lesson_again(layout.remove(session, [session.guides[0].id]), part) is None
    file.save(session, tmp_path / "song.isophon")
    shutil.rmtree(take_cache.place_of(paths[0]))
    call = ["clean", "--session", str(tmp_path / "song.isophon"), "--only", "bleed", "--out", str(tmp_path / "out")]
    assert main([*call, "--depth", "32f", "--quiet"]) == 0
    out, take = (sf.read(path, dtype="float32")[0] for path in (tmp_path / "out" / "take.clean.wav", paths[0]))
    assert 10 * np.log10(np.mean(leak**2) / np.mean((out - take + leak) ** 2)) > 10
    with Recording(paths[0]) as recording, pytest.raises(InputError, match="1 s or more are needed"):
        learn(recording, Lesson(lesson.cues, ((3.0, 3.2),)), survey)


def test_passes_ought_to_look_again_when_the_bleed_changed(laid):
    session, _, _ = laid
    found = adopting.Findings(session.parts[0].source, (), -20.0, -70.0)
    session = adopting.adopt_findings(session, "part-1", found)
    assert not session.parts[0].stale
    learned = adopting.adopt_leak(session, "part-1", Leak("k", ("feed.wav",)), ())
    assert learned.parts[0].stale
    without = learned.parts[0].removal.key(learned.parts[0].leak)
    again = adopting.adopt_findings(learned, "part-1", replace(found, heard_without=without))
    assert not again.parts[0].stale
    assert edits.set_setting(again, ["part-1"], "bleed", "much", 0.5).parts[0].stale
    assert edits.set_setting(again, ["part-1"], "bleed", "on", False).parts[0].stale


def test_the_command_line_takes_out_a_click_and_several_cues(voice, cue, tmp_path, capsys):
    feed = cue[: len(voice)]
    beats = np.zeros(len(voice), np.float32)
    for at in np.arange(0.2, len(voice) / RATE - 0.2, 0.5):
        beats[round(at * RATE) : round(at * RATE) + 600] = np.sin(0.4 * np.arange(600)) * np.exp(-np.arange(600) / 120)
    tune, take = leaked(voice, feed, 30)
    words = np.concatenate([np.roll(voice, 9_000)[:150_000], voice[50_000:400_000], np.zeros(60_000, np.float32)])
    click, clicked = leaked(words, beats[: len(words)], 28, seed=5)
    later = np.pad(click, (0, len(take) - len(click)))
    sounds = (("both", take + later), ("clicked", clicked), ("tune", feed), ("click", beats))
    files = {name: str(write(tmp_path / f"{name}.wav", x, RATE, "FLOAT")) for name, x in sounds}

    def left(name, leak, *more):
        call = ["clean", files[name], "--only", "bleed", "--out", str(tmp_path), "--depth", "32f", "--quiet", "--force"]
        assert main([*call, *more]) == 0
        out, before = (sf.read(path, dtype="float32")[0] for path in (tmp_path / f"{name}.clean.wav", files[name]))
        return 10 * np.log10(np.mean(leak**2) / np.mean((out - before + leak) ** 2))

    assert left("both", tune + later, "--cue", files["tune"], "--cue", files["click"]) > 15
    assert left("clicked", click) > 15
    assert main(["find", files["clicked"], "--own-click", "--json", "--skip", "ess,breath,pop,tick", "--quiet"]) == 0
    told = json.loads(capsys.readouterr().out)["bleed"]
    assert told["found"] and told["beat_s"] == pytest.approx(0.5, abs=1e-4)
    assert main(["find", files["clicked"], "--own-click", "--cue", files["tune"]]) == 2
    assert "--own-click: is for takes without a cue file" in capsys.readouterr().err
    assert main(["find", files["tune"], "--set", "bleed.learn_from=-1"]) == 2
