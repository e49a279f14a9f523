"""A regular click without a cue file: found in the take itself, told from voices, taken out."""

import numpy as np
import pytest
import soxr
from scipy import signal

from isophon.core.demo.blemishes import ear_to_microphone
from isophon.core.passes.bleed.click import find_click
from isophon.core.passes.bleed.leak import learn_leak
from voices import TEXTS, alsa, speak

RATE = 24_000
RECORDED = ("Front_Center", "Front_Left", "Front_Right", "Rear_Center", "Rear_Left", "Rear_Right", "Side_Left")


def spoken_on(voice, texts=3):
    """A voice that never says the same twice, about ten seconds a text."""
    pieces = []
    for text in list(TEXTS.values())[:texts]:
        samples, rate, _ = speak(voice, text)
        pieces += [samples, np.zeros(round(0.37 * rate), np.float32)]
    return soxr.resample(np.concatenate(pieces), rate, RATE)


def recorded():
    """alsa-utils' recorded woman."""
    pieces = [soxr.resample(samples, rate, RATE) for samples, rate in map(alsa, RECORDED)]
    return np.concatenate([np.pad(piece, (0, 7_000)) for piece in pieces])


def loud(x):
    return np.sqrt(np.mean(x[np.abs(x) > 0.05 * np.abs(x).max()] ** 2))


def clicked(voice, beat_s, under_db, sound, accent=None):
    """The voice with a click through a headphone and a room, every fourth ``accent``; and the leak alone."""
    feed = np.zeros(len(voice))
    for i, at in enumerate(np.arange(0.131, len(voice) / RATE - 0.2, beat_s)):
        one = accent if accent is not None and i % 4 == 0 else sound
        whole = int(at * RATE)
        turn = np.exp(-2j * np.pi * np.fft.rfftfreq(2 * len(one)) * (at * RATE - whole))
        piece = np.fft.irfft(np.fft.rfft(one, 2 * len(one)) * turn)[: len(one)]
        feed[whole : whole + len(one)] += piece[: len(feed) - whole]
    leak = signal.oaconvolve(feed, soxr.resample(ear_to_microphone(4), 48_000, RATE))[: len(voice)]
    leak *= loud(voice) / loud(leak) * 10 ** (-under_db / 20)
    room = np.random.default_rng(1).standard_normal(len(voice)) * loud(voice) * 10 ** (-65 / 20)
    return (voice + leak + room).astype(np.float32), leak


def sine(hz, decay_s, seconds=0.1):
    time = np.arange(round(seconds * RATE)) / RATE
    return np.sin(2 * np.pi * hz * time) * np.exp(-time / decay_s)


WOOD = signal.lfilter(*signal.iirpeak(1_100, 8, fs=RATE), np.random.default_rng(2).standard_normal(2_400)) * np.exp(
    -np.arange(2_400) / RATE / 0.012
)


@pytest.mark.parametrize(
    ("voice", "beat_s", "under_db", "sound", "accent"),
    [("es+f4", 0.5172, 26, WOOD, sine(1_900, 0.008)),
     ("recorded", 0.3846, 26, sine(1_500, 0.006), None)],
)  # fmt: skip
def test_a_click_is_found_and_taken_out(voice, beat_s, under_db, sound, accent):
    samples = recorded() if voice == "recorded" else spoken_on(voice, texts=4)
    take, leak = clicked(samples, beat_s, under_db, sound, accent)
    taken = learn_leak(take[None], RATE, [], "k")
    assert taken.facts.own_click and taken.facts.key == "k"
    assert taken.facts.beat_s == pytest.approx(beat_s, abs=2e-5)
    assert taken.facts.ways == (1 if accent is None else 2)
    still = np.sqrt(signal.oaconvolve(samples**2, np.ones(1_200) / 1_200, "same").clip(0)) < 3e-3 * loud(samples)
    before, after = (np.mean(x[still] ** 2) for x in (leak, leak - taken.leak[0]))
    assert 10 * np.log10(before / after) > 15
    assert np.mean((leak - taken.leak[0]) ** 2) < 0.1 * np.mean(leak**2), "under the voice too"


@pytest.mark.parametrize("voice", ["en-us", "it+m4", "recorded"])
def test_no_click_is_found_in_voices(voice):
    samples = recorded() if voice == "recorded" else spoken_on(voice)
    taken = learn_leak(samples[None], RATE, [], "k")
    assert taken.facts.key == "" and not taken.leak.any() and not taken.rest.any()


def test_a_loop_of_a_voice_is_no_click():
    """Words that were pasted come again sample for sample, too; no sound of theirs is a beat's alone."""
    samples, rate, _ = speak("es", TEXTS["es"])
    loop = soxr.resample(samples, rate, RATE)
    for seconds in (1.6, 6.4):
        take = np.tile(loop[: round(seconds * RATE)], round(32 / seconds))
        taken = learn_leak(take[None], RATE, [], "k")
        assert taken.facts.key == "" and not taken.leak.any(), seconds


def test_a_silent_take_has_no_click():
    assert not find_click(np.zeros(20 * RATE, np.float32), RATE).found
    assert not find_click(np.zeros(RATE // 2, np.float32), RATE).found
