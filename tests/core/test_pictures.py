"""The pictures show what is in the samples."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from isophon.core.survey import survey
from isophon.core.survey_streams import geometry_at
from isophon.core.takes.pictures import (
    LOWS,
    VOICE,
    WAVE_STEP,
    Axis,
    Spectrogram,
    Wave,
    close_margin,
    close_picture,
    lows_of,
)

RATE = 48_000
RNG = np.random.default_rng(0)
NOISE = RNG.uniform(-1, 1, 400_000).astype(np.float32)


def wave_of(samples, pieces=7):
    wave = Wave()
    for piece in np.array_split(np.atleast_2d(samples), pieces, axis=1):
        wave.add(piece)
    wave.finish()
    return wave


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 300_000), st.integers(20_000, 100_000), st.integers(10, 400))
def test_no_peak_of_the_wave_is_missing(start, length, count):
    """Each column spans at least its own samples and reaches no further than a step beyond."""
    wave = wave_of(NOISE)
    stop = start + length
    low, high = wave.columns(start, stop, count)
    edges = np.linspace(start, stop, count + 1)
    step = WAVE_STEP * 4 ** max(0, int(np.log(max((stop - start) / count / WAVE_STEP, 1)) / np.log(4)))
    for i in range(0, count, max(1, count // 9)):
        inside = NOISE[int(edges[i]) : max(int(edges[i]) + 1, int(edges[i + 1]) - step)]
        around = NOISE[max(0, int(edges[i]) - step) : int(edges[i + 1]) + 2 * step]
        assert high[i] >= inside.max() - 1e-6 or edges[i + 1] - edges[i] < step
        assert high[i] <= around.max() and low[i] >= around.min()


def test_of_two_sides_the_larger_is_shown():
    left = np.zeros(10_000, np.float32)
    right = left.copy()
    right[5_000] = -0.9
    low, high = wave_of(np.stack([left, right])).columns(0, 10_000, 50)
    assert low.min() == np.float32(-0.9) and high.max() == 0


def drawn(samples):
    """The spectrogram that the survey draws."""
    spectrogram = Spectrogram(geometry_at(RATE))
    survey(np.array_split(samples[None, :], 5, axis=1), RATE, len(samples), on_spectra=spectrogram.add)
    spectrogram.finish()
    return spectrogram


@pytest.mark.parametrize("hz", [2_000, 3_150, 6_300, 12_500])
def test_a_tone_lies_on_its_row(hz):
    tone = (0.25 * np.sin(2 * np.pi * hz * np.arange(RATE) / RATE)).astype(np.float32)
    spectrogram = drawn(tone)
    column = spectrogram.columns(0.3, 0.7, 10)[:, 5]
    assert abs(int(np.argmax(column)) - VOICE.place(hz) * VOICE.rows) < 4
    axis = Axis(1_800.0, 16_000.0)
    sharp = close_picture(tone[None, : RATE // 4 + 2 * close_margin(RATE, axis)], RATE, 100, axis)
    assert sharp.shape[0] == axis.rows and abs(int(np.argmax(sharp[:, 40])) - axis.place(hz) * axis.rows) < 4


def test_outside_of_the_take_is_empty_paper():
    spectrogram = drawn(NOISE[:RATE])
    picture = spectrogram.columns(-1.0, 2.0, 300)
    assert not picture[:, :95].any() and not picture[:, 205:].any() and picture[:, 110:190].all()


@pytest.mark.parametrize("hz", [40, 110, 330])
def test_a_low_tone_lies_on_its_row(hz):
    tone = (0.25 * np.sin(2 * np.pi * hz * np.arange(2 * RATE) / RATE)).astype(np.float32)
    picture = lows_of(np.array_split(tone[None, :], 5, axis=1), RATE, 1)
    assert abs(int(np.argmax(picture.columns(0.5, 1.5, 10)[:, 5])) - LOWS.place(hz) * LOWS.rows) < 4


@given(st.floats(VOICE.low, VOICE.high))
def test_the_axis_and_its_inverse(hz):
    assert VOICE.hz(VOICE.place(hz)) == pytest.approx(hz, rel=1e-6)
    assert 0 <= VOICE.place(hz) <= 1
