"""The player: sample-true, switching without a click or losing the place, on a device of the test's own."""

import time

import numpy as np
import pytest

from conftest import cuts, look, reader
from isophon.core.passes.ess import treat
from isophon.core.passes.ess.settings import EssSettings, usual_standout
from isophon.core.playing.mix import Strip, mixed
from isophon.core.playing.output import Output
from isophon.core.playing.player import Player
from isophon.core.playing.readiness import Readiness
from isophon.core.render import Renderer
from isophon.core.standins.device import ClockedDevice
from voices import spoken

BLOCK = 480  # no divisor of what the player makes at once


class HandDevice:
    """Asks for blocks when the test says so."""

    name, silent = "test", True

    def __init__(self, rate, ring):
        self.fill = Output(ring, rate).fill

    def close(self):
        pass


def clocked(rate, ring):
    return ClockedDevice(rate, Output(ring, rate).fill)


class Deck:
    def __init__(self, samples, rate, plan=()):
        self.renderer = Renderer(reader(samples), rate, len(samples))
        self.player = Player(rate, len(samples), HandDevice)
        self.set_plan(plan)

    def set_plan(self, plan, made=True):
        """``made``: all of it is rendered before anybody asks for it."""
        if made:
            self.renderer.cleaned(plan, 0, self.renderer.samples)
        return self.player.set_scene((Strip(self.renderer, plan),))

    def mixed(self, blocks):
        out = []
        for _ in range(blocks):
            deadline = time.time() + 2
            while self.player.queued < 2 and self.player._wanted() and time.time() < deadline:
                time.sleep(0.001)
            at_end = self.player.position + 4 * BLOCK > self.renderer.samples  # there nothing more comes
            soon = time.time() + (0.1 if at_end else 2)  # a busy machine may be late
            while not self.player.queued and self.player.playing and time.time() < soon:
                time.sleep(0.001)
            block = np.zeros((BLOCK, 2), np.float32)
            self.player.device.fill(block)
            out.append(block)
        return np.concatenate(out)[:, 0]


def tame(ceiling=-14.0):
    samples, rate, _ = spoken("de")
    _, marks = look(samples, rate)
    return samples, rate, cuts(marks, EssSettings(ceiling_db=ceiling), usual_standout(marks), rate)


def test_what_is_heard_is_what_is_rendered():
    samples, rate, plan = tame()
    deck = Deck(samples, rate, plan)
    deck.player.play()
    heard = deck.mixed(120)
    clean = deck.renderer.cleaned(plan, 0, len(heard))[0]
    assert np.array_equal(heard[2 * BLOCK :], clean[2 * BLOCK :])
    assert deck.player.position == len(heard)
    for compare, expected in (
        ("as sung", samples),
        ("removed", samples - deck.renderer.cleaned(plan, 0, len(samples))[0]),
    ):
        deck.player.heard_as.set_compare(compare)
        at = deck.player.position
        heard = deck.mixed(60)
        assert np.allclose(heard[2 * BLOCK :], expected[at + 2 * BLOCK : at + len(heard)], atol=1e-6)
    deck.player.close()


@pytest.mark.parametrize("rate", [48_000, 44_100])
def test_what_is_made_ahead_is_what_is_asked_for_across_the_edges_of_tiles(rate):
    """At the part's own rate and at another; once it is made nothing is left to be made."""
    samples, own, plan = tame()
    strip = Strip(Renderer(reader(samples), own, len(samples)), plan)
    readiness = Readiness(rate)
    spans = [(at, 8 * 1_024) for at in range(0, 16 * 8 * 1_024, 8 * 1_024)]
    rounds = 0
    while readiness.make_next((strip,), spans):
        rounds += 1
        assert rounds <= 2 * len(spans)
    assert rounds and all(readiness.all((strip,), *span) for span in spans)
    made = strip.renderer.tiles_made
    for span in spans:
        mixed((strip,), rate, *span)
    assert strip.renderer.tiles_made == made


@pytest.mark.parametrize("made", [False, True], ids=["at once", "once the jump is made"])
def test_a_jump_is_never_forgotten_whatever_is_changed_right_after_it(made):
    rate = 48_000
    ramp = np.arange(8 * rate, dtype=np.float32) / (8 * rate)
    for change in ("scene", "loop", "seek", "nothing"):
        deck = Deck(ramp, rate)
        deck.player.play()
        deck.mixed(7)
        deck.player.seek(3 * rate)
        while made and not any(chunk.jumped for chunk in tuple(deck.player._queue.chunks)):
            time.sleep(0.001)
        if change == "seek":
            deck.player.seek(5 * rate)
        elif change == "scene":
            deck.player.set_scene((*deck.player.scene, *deck.player.scene))
        elif change == "loop":
            deck.player.set_loop((2 * rate, 4 * rate))
        heard = deck.mixed(30)
        at = (5 if change == "seek" else 3) * rate
        first = deck.player.position - len(heard)
        assert at - 4 * BLOCK < deck.player.position - 26 * BLOCK < at + 4 * BLOCK, change
        double = 2.0 if change == "scene" else 1.0
        assert np.allclose(heard[-20 * BLOCK :], double * ramp[first:][10 * BLOCK :][: 20 * BLOCK], atol=1e-6), change
        assert np.abs(np.diff(heard)).max() < 0.02, "no edge"
        deck.player.close()


def test_a_seek_while_stopped_is_where_it_was_asked_for_and_plays_from_there():
    """Whatever was half used when it was stopped, and whether or not it was silent yet."""
    rate = 48_000
    ramp = np.arange(4 * rate, dtype=np.float32) / (4 * rate)
    for silent_first in (True, False):
        deck = Deck(ramp, rate)
        deck.player.play()
        deck.mixed(7)
        deck.player.stop()
        if silent_first:
            deck.mixed(3)
            assert deck.player.position % 1024, "a chunk is half used"
        deck.player.seek(2 * rate + 5)
        deck.mixed(3)
        assert deck.player.position == 2 * rate + 5, silent_first
        deck.player.play()
        heard = deck.mixed(6)
        assert np.allclose(heard[2 * BLOCK :], ramp[2 * rate + 5 + 2 * BLOCK :][: 4 * BLOCK], atol=1e-6)
        deck.player.close()


class SlowRenderer(Renderer):
    """Takes its time for every tile."""

    def _rendered(self, levels, start):
        time.sleep(0.4)
        return super()._rendered(levels, start)


def test_what_is_not_rendered_yet_is_heard_as_sung_never_as_silence():
    """Then as it was heard last where there was something, and at last as it is to be; without a click in between."""
    rate, size = 48_000, 8 * 48_000
    tone = (0.5 * np.sin(2 * np.pi * 110 * np.arange(size) / rate)).astype(np.float32)
    whole = treat.Span(0, size, 60.0, None)
    half, less = (treat.EssCut(whole, (480, 480), gain) for gain in (0.5, 0.25))
    deck = Deck(tone, rate)
    deck.renderer = SlowRenderer(reader(tone), rate, size)
    deck.set_plan((half,), made=False)
    deck.player.play()
    began = time.monotonic()
    heard, levels = [], []
    for plan in ((half,), (less,)):
        deck.set_plan(plan, made=False)
        until = time.monotonic() + 6.0
        while ((deck.player.as_sung_for_now or not levels) and time.monotonic() < until) or len(heard) < 100:
            heard.append(deck.mixed(1))
            levels.append(float(np.abs(heard[-1]).max()))
            time.sleep(0.002)
        assert time.monotonic() - began < 20
    deck.player.close()
    sound = np.concatenate(heard)
    assert max(levels[:40]) > 0.4, "as sung at first"
    assert min(levels[3:]) > 0.1, "and never silent"
    assert _roughness(sound[3 * BLOCK :]) < 12 * _roughness(tone)


def _roughness(signal_):
    return np.abs(np.diff(signal_, n=2)).max()


def test_no_click_when_switching_seeking_looping_or_changing_the_plan():
    """A low tone stays as smooth as it is through every kind of jump; a click would bend it far more."""
    rate = 48_000
    tone = (0.5 * np.sin(2 * np.pi * 110 * np.arange(rate * 4) / rate)).astype(np.float32)
    plan = (treat.EssCut(treat.Span(0, rate * 4, 700.0, None), (480, 480), 0.3),)
    deck = Deck(tone, rate, plan)
    deck.player.play()
    heard = [deck.mixed(12)]
    for act in (
        lambda: deck.player.heard_as.set_compare("as sung"), lambda: deck.player.heard_as.set_compare("removed"),
        lambda: deck.player.heard_as.set_compare("cleaned"), lambda: deck.player.heard_as.set_match(3.0),
        lambda: deck.player.seek(rate + 77), lambda: deck.set_plan(()),
        lambda: deck.player.set_loop((rate + 100, rate + 9_000)), lambda: None, lambda: deck.player.stop(),
    ):  # fmt: skip
        act()
        heard.append(deck.mixed(24))
    whole = np.concatenate(heard)
    assert _roughness(whole) < 12 * _roughness(tone) < 0.02
    assert not deck.mixed(2).any() and not deck.player.playing
    deck.player.close()


def test_a_loop_repeats_and_switching_keeps_the_place():
    samples, rate, plan = tame()
    deck = Deck(samples, rate, plan)
    loop = (rate, rate + 20 * BLOCK)
    deck.player.set_loop(loop)
    deck.player.play()
    for i in range(100):
        deck.mixed(1)
        if i == 50:
            deck.player.heard_as.set_compare("as sung")
        assert loop[0] <= deck.player.position <= loop[1]
    deck.player.close()


def test_a_new_plan_is_ready_in_the_loop():
    samples, rate, plan = tame()
    deck = Deck(samples, rate, ())
    deck.player.set_loop((0, 40 * BLOCK))
    deck.player.play()
    deck.mixed(4)
    version = deck.set_plan(plan)
    assert deck.player.ready(version, 1.0)
    heard = deck.mixed(12)
    at = 16 * BLOCK
    assert np.array_equal(heard[-4 * BLOCK :], deck.renderer.cleaned(plan, at - 4 * BLOCK, 4 * BLOCK)[0])
    deck.player.close()


def test_it_ends_at_the_end():
    samples = np.full(5 * BLOCK, 0.1, np.float32)
    deck = Deck(samples, 48_000)
    deck.player.play()
    deck.mixed(8)
    assert not deck.player.playing and deck.player.position == len(samples)
    deck.player.close()


def test_the_stand_in_keeps_time_and_what_was_played():
    samples, rate, plan = tame()
    player, renderer = Player(rate, len(samples), clocked), Renderer(reader(samples), rate, len(samples))
    renderer.cleaned(plan, 0, len(samples))
    player.set_scene((Strip(renderer, plan),))
    player.play()
    time.sleep(0.6)
    player.stop()
    time.sleep(0.1)
    heard = player.device.played()[0]
    player.close()
    began = int(np.argmax(heard != 0))
    span = np.count_nonzero(heard)
    assert 0.2 * rate < span < 1.2 * rate
    clean = Renderer(reader(samples), rate, len(samples)).cleaned(plan, 0, len(samples))[0]
    first = int(np.argmax(clean != 0))
    middle = slice(2 * BLOCK, int(0.15 * rate))
    offset = began - first
    assert any(np.array_equal(heard[offset + d :][middle], clean[middle]) for d in range(-2 * BLOCK, 2 * BLOCK))


@pytest.mark.parametrize("speed", [0.75, 0.5])
def test_slow_playing_keeps_the_pitch_and_takes_as_much_longer(speed):
    """A tone of 187 Hz whose level rises: its periods stay, each level comes as much later, and there is no click."""
    rate = 48_000
    at = np.arange(4 * rate)
    tone = (at / len(at) * np.sin(2 * np.pi * 187 * at / rate)).astype(np.float32)
    deck = Deck(tone, rate)
    deck.player.set_speed(speed)
    deck.player.play()
    heard = deck.mixed(300)[4_800:].astype(float)
    crossings = np.flatnonzero((heard[:-1] < 0) & (heard[1:] >= 0))
    assert rate / np.mean(np.diff(crossings)) == pytest.approx(187, rel=0.01)
    assert _roughness(heard) < 12 * _roughness(tone)
    level = np.abs(heard[-rate // 10 :]).max()
    place = speed * (300 * BLOCK - rate / 20)
    assert level == pytest.approx(place / len(at), rel=0.05)
    assert deck.player.position == pytest.approx(speed * 300 * BLOCK, abs=3_000)
    deck.player.close()


def test_once_plays_to_the_end_and_stops_without_a_click():
    rate = 48_000
    tone = (0.5 * np.sin(2 * np.pi * 110 * np.arange(2 * rate) / rate)).astype(np.float32)
    deck = Deck(tone, rate)
    deck.player.play_once(10_000, 30_000)
    heard = deck.mixed(60)
    sounding = np.flatnonzero(heard)
    assert not deck.player.playing and sounding[-1] - sounding[0] == pytest.approx(20_000, abs=8)
    assert np.array_equal(heard[1_000:19_000], tone[11_000:29_000])
    assert _roughness(heard) < 12 * _roughness(tone)
    deck.player.close()
