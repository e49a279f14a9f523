"""Taming: only the marks, only their band, just enough; a span alone equals the whole."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from scipy import signal

from conftest import cuts, look, reader
from isophon.core.marks import Hand
from isophon.core.passes.ess.settings import EssSettings, ceiling_over_voice, change_of, usual_standout
from isophon.core.render import TILE, Renderer
from voices import alsa, spoken


def cleaned(samples, rate, settings=None):
    settings = settings or EssSettings()
    found, marks = look(samples, rate)
    plan = cuts(marks, settings, usual_standout(marks), rate)
    two = np.atleast_2d(samples).astype(np.float32)
    return Renderer(reader(two), rate, two.shape[1]).cleaned(plan, 0, two.shape[1]), plan, marks, found


def band_level(samples, rate, start, end):
    band = signal.butter(4, [4_000, min(10_000, 0.45 * rate)], "band", fs=rate, output="sos")
    filtered = signal.sosfiltfilt(band, samples)
    return 10 * np.log10(np.mean(np.square(filtered[int(start * rate) : int(end * rate)])) + 1e-20)


def test_nothing_else_is_touched_bit_for_bit():
    samples, rate, _ = spoken("en-us")
    out, plan, _, _ = cleaned(samples, rate, EssSettings(ceiling_db=-12))
    touched = np.zeros(len(samples), bool)
    for t in plan:
        touched[t.first : t.last] = True
    assert len(plan) > 5 and touched.mean() < 0.4
    assert np.array_equal(out[0][~touched], samples[~touched])
    assert not np.array_equal(out[0][touched], samples[touched])


def test_a_mark_over_the_ceiling_comes_down_to_it():
    samples, rate, _ = spoken("de")
    settings = EssSettings(ceiling_db=-9.0, usual_db=24.0)
    out, _, marks, _ = cleaned(samples, rate, settings)
    _, after = look(out[0], rate)
    over = [m for m in marks if m.standout_db > -8]
    assert len(over) >= 5
    for mark in over:
        same = min(after, key=lambda m: abs(m.start - mark.start))
        assert same.standout_db == pytest.approx(-9.0, abs=1.0)


def test_one_sharp_ess_comes_back_to_the_singers_own():
    """A recorded S raised by 10 dB over its band in a take of others is found and brought down by most of it."""
    samples, rate, _ = spoken("de")
    _, marks = look(samples, rate)
    mark = marks[5]
    weights = np.zeros(len(samples))
    weights[int(mark.start * rate) : int(mark.end * rate)] = 1
    edge = np.hanning(int(0.01 * rate))
    weights = np.convolve(weights, edge / edge.sum(), "same")
    band = signal.firwin(255, [4_000, 10_000], pass_zero=False, fs=rate)
    raised = samples + signal.fftconvolve(samples, band, "same") * weights * (10 ** (10 / 20) - 1)
    out, _, _, _ = cleaned(raised, rate)
    before, after = (band_level(x, rate, mark.start, mark.end) for x in (samples, out[0]))
    assert band_level(raised, rate, mark.start, mark.end) - before > 9
    assert abs(after - before) < 5


def test_a_tamed_s_keeps_its_spectrum():
    """Third octaves inside the band fall together: no hole, no lisp. On a recorded S ("side left")."""
    samples, rate = alsa("Side_Left")
    out, plan, marks, _ = cleaned(samples, rate, EssSettings(ceiling_db=-6.0))
    span = slice(int(marks[0].start * rate) + 600, int(marks[0].end * rate) - 600)
    freqs, as_sung = signal.welch(samples[span], rate, nperseg=1024)
    _, tamed = signal.welch(out[0][span], rate, nperseg=1024)
    change = 10 * np.log10(tamed / as_sung)
    expected = 20 * np.log10(plan[0].gain)
    assert expected < -4
    inside = (freqs > plan[0].span.low * 1.25) & (freqs < 16_000)
    assert np.abs(change[inside] - expected).max() < 0.5
    assert np.abs(change[freqs < plan[0].span.low * 0.7]).max() < 0.5


@settings(max_examples=40, deadline=None)
@given(start=st.integers(0, 200_000), size=st.integers(1, 3 * TILE))
def test_a_span_alone_equals_the_whole(start, size):
    samples, rate, _ = spoken("en-us")
    whole, plan, _, _ = _prepared()
    alone = Renderer(reader(samples), rate, len(samples))
    stop = min(len(samples), start + size)
    if stop > start:
        assert np.array_equal(alone.cleaned(plan, start, stop - start), whole[:, start:stop])


_kept = []


def _prepared():
    if not _kept:
        samples, rate, _ = spoken("en-us")
        _kept.append(cleaned(samples, rate, EssSettings(ceiling_db=-14)))
    return _kept[0]


def test_only_tiles_that_changed_are_made_again():
    samples, rate, _ = spoken("en-us")
    _, marks = look(samples, rate)
    usual = usual_standout(marks)
    renderer = Renderer(reader(samples), rate, len(samples))
    plan = cuts(marks, EssSettings(ceiling_db=-14), usual, rate)
    renderer.cleaned(plan, 0, len(samples))
    made = renderer.tiles_made
    renderer.cleaned(plan, 0, len(samples))
    assert renderer.tiles_made == made > 4
    changed = (*plan[:3], replace(plan[3], gain=0.9), *plan[4:])
    renderer.cleaned(changed, 0, len(samples))
    assert 1 <= renderer.tiles_made - made <= 2


def test_stereo_keeps_its_image():
    samples, rate, _ = spoken("de")
    out, plan, _, _ = cleaned(np.stack([samples, 0.25 * samples]), rate, EssSettings(ceiling_db=-12))
    assert plan and np.allclose(out[1], 0.25 * out[0], atol=1e-6)


def test_limits_and_hands():
    samples, rate, _ = spoken("de")
    _, marks = look(samples, rate)
    usual = usual_standout(marks)
    tight = EssSettings(ceiling_db=-24.0, limit_db=-5.0)
    assert min(change_of(m, tight, usual) for m in marks) == -5.0
    mark = max(marks, key=lambda m: m.standout_db)
    assert change_of(replace(mark, hand=Hand(leave=True)), tight, usual) == 0
    assert change_of(replace(mark, hand=Hand(change_db=-8.0)), tight, usual) == -8.0
    half = change_of(replace(mark, hand=Hand(change_db=-12.0, blend=0.5)), tight, usual)
    assert half == pytest.approx(20 * np.log10((1 + 10 ** (-12 / 20)) / 2), abs=0.01)
    assert change_of(replace(mark, confidence=0.2), tight, usual) == 0
    assert ceiling_over_voice(EssSettings(), usual) == min(0.0, usual + 4.0)


@pytest.mark.parametrize("gain_db", [-50, 0, 12])
def test_no_sample_is_nan_or_beyond_the_inputs_peak(gain_db):
    samples, rate, _ = spoken("it+f1")
    louder = samples * 10 ** (gain_db / 20)
    out, _, _, _ = cleaned(louder, rate, EssSettings(ceiling_db=-14))
    assert np.isfinite(out).all() and np.abs(out).max() <= np.abs(louder).max() * 1.06
