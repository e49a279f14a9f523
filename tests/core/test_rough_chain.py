"""The rough chain against the formulas of Giannoulis, Massberg & Reiss 2012 and of its own shelf."""

import numpy as np
import pytest
from msgspec.structs import replace

from isophon.core.audio.dynamics import decoupled, static_db
from isophon.core.playing.rough_chain import RoughChain
from isophon.core.session.chain import Chain
from isophon.core.session.chain_curves import KNEE_DB, compressed_db, shelf_gain_db

RATE = 48_000
NOTHING = Chain(ratio=1.0, shelf_db=0.0, drive_db=0.0, room=0.0)
SQUEEZED = replace(NOTHING, ratio=4.0)


def through(how, samples, block=512):
    """Through the chain without its matching of loudness."""
    chain = RoughChain(RATE, how)
    chain._matching = lambda *levels: 1.0
    two = np.stack([samples, samples], axis=1).astype(np.float32)
    return np.concatenate([chain.process(two[at : at + block]) for at in range(0, len(two), block)])[:, 0]


@pytest.mark.parametrize("level_db", [-50.0, -24.0, -20.0, -12.0, -3.0])
def test_steady_levels_come_out_as_the_static_curve_says(level_db):
    time = np.arange(RATE) / RATE
    tone = 10 ** (level_db / 20) * np.sin(2 * np.pi * 997 * time)
    out = through(SQUEEZED, tone)
    gain = 20 * np.log10(np.abs(out[RATE // 2 :]).max() / np.abs(tone).max())
    # threshold −18 dBFS, ratio 4, knee 6 dB; a peak detector hears the tone's peaks
    over = level_db + 18
    expected = 0.0 if 2 * over < -6 else -0.75 * over if 2 * over > 6 else -0.75 * (over + 3) ** 2 / 12
    assert gain == pytest.approx(expected, abs=0.35)
    assert -static_db(np.array([level_db + 18]), 4.0, KNEE_DB)[0] == pytest.approx(expected, abs=1e-6)


def test_attack_and_release_reach_63_percent_in_their_time():
    """4 ms and 120 ms, on what is taken off in dB, within a fifth."""
    level = np.full(RATE, 0.001)
    level[RATE // 4 : RATE // 2] = 0.8
    carrier = np.where(np.arange(RATE) % 2, 1.0, -1.0)
    out = through(SQUEEZED, level * carrier)
    taken = -20 * np.log10(np.abs(out) / level)
    full = taken[RATE // 2 - 10]
    rise = np.argmax(taken[RATE // 4 :] > 0.63 * full) / RATE
    fall = np.argmax(taken[RATE // 2 :] < 0.37 * full) / RATE
    assert rise == pytest.approx(0.004, rel=0.2) and fall == pytest.approx(0.12, rel=0.2)


def test_the_decoupled_detector_reaches_63_percent_in_its_time_too():
    """Giannoulis, Massberg & Reiss 2012: attack 20 ms, release 120 ms; a step of 10 dB for half a second."""
    wanted = np.zeros(400)
    wanted[100:200] = 10.0
    taken = decoupled(wanted, 0.005, 0.02, 0.12)
    assert taken.max() == pytest.approx(10.0, abs=0.01) and taken[99] == pytest.approx(0, abs=1e-6)
    rise = (np.argmax(taken > 6.3) - 100 + 1) * 0.005
    fall = (np.argmax(taken[200:] < 3.7)) * 0.005
    assert rise == pytest.approx(0.02, abs=0.0051) and 0.12 <= fall <= 0.12 + 0.02 + 0.005, "the attack comes after it"


def test_the_shelf_lifts_as_it_says_and_any_block_size_is_the_same():
    rng = np.random.default_rng(1)
    noise = rng.standard_normal(1 << 16) * 0.05
    bright = replace(NOTHING, shelf_db=6.0)
    out = through(bright, noise)
    spectra = [np.abs(np.fft.rfft(x[4_096:])) ** 2 for x in (noise, out)]
    hz = np.fft.rfftfreq(len(noise) - 4_096, 1 / RATE)
    for at in (500.0, 15_000.0):
        near = np.abs(hz - at) < 200
        lifted = 10 * np.log10(spectra[1][near].sum() / spectra[0][near].sum())
        assert lifted == pytest.approx(shelf_gain_db(np.array([at]), bright, RATE)[0], abs=0.3)
    everything = replace(NOTHING, shelf_db=6.0, drive_db=7.0, room=0.6)
    assert np.allclose(through(everything, noise, 512), through(everything, noise, 96), atol=1e-5)


def test_what_comes_out_is_as_loud_as_what_goes_in():
    rng = np.random.default_rng(2)
    noise = np.stack([rng.standard_normal(4 * RATE) * 0.1] * 2, axis=1).astype(np.float32)
    chain = RoughChain(RATE, Chain(-29.0, 4.0, shelf_db=7.0, drive_db=9.0, room=0.5))
    out = np.concatenate([chain.process(noise[at : at + 512]) for at in range(0, len(noise), 512)])
    later = slice(2 * RATE, None)
    assert 10 * np.log10(np.mean(out[later] ** 2) / np.mean(noise[later] ** 2)) == pytest.approx(0, abs=0.5)


def test_a_second_compressor_follows_the_first_and_a_dry_share_stands_beside_both():
    """Steady tones: the second one's static curve on what the first leaves; half of it in parallel, by amplitude."""
    two = replace(SQUEEZED, second_threshold_db=-24.0, second_ratio=3.0, parallel=0.5)
    tone = 0.5 * np.sin(2 * np.pi * 997 * np.arange(RATE) / RATE)
    gain = 20 * np.log10(np.abs(through(two, tone)[RATE // 2 :]).max() / 0.5)
    level = 20 * np.log10(0.5)
    first = -0.75 * (level + 18)
    wet = first - 2 / 3 * (level + first + 24)
    expected = 20 * np.log10(0.5 * 10 ** (wet / 20) + 0.5)
    assert gain == pytest.approx(expected, abs=0.35)
    assert compressed_db(np.array([level]), two)[0] == pytest.approx(expected, abs=1e-6)
