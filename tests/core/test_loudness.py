"""Loudness and true peak against ITU-R BS.1770-5, EBU Tech 3341 and pyloudnorm."""

import numpy as np
import pyloudnorm
import pytest
from scipy import signal

from isophon.core.audio.filters import BothWays, k_weighting, linear_phase_band
from isophon.core.audio.loudness import Meter
from voices import spoken


def measured(samples: np.ndarray, rate: int) -> Meter:
    meter = Meter(rate, len(samples))
    for start in range(0, samples.shape[1], 10_007):
        meter.add(samples[:, start : start + 10_007])
    return meter


def test_k_weighting_is_the_tabulated_one_at_48_khz():
    """ITU-R BS.1770-5, tables 1 and 2."""
    shelf, high_pass = k_weighting(48_000)
    assert shelf == pytest.approx(
        [1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585], abs=1e-8
    )
    assert high_pass == pytest.approx([1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621], abs=1e-8)


@pytest.mark.parametrize(("level", "expected"), [(-23.0, -23.0), (-33.0, -33.0)])
def test_ebu_3341_steady_tones(level, expected):
    """EBU Tech 3341, test cases 1 and 2: a 1 kHz stereo sine; within 0.1 LU."""
    time = np.arange(20 * 48_000) / 48_000
    tone = 10 ** (level / 20) * np.sin(2 * np.pi * 1000 * time)
    assert measured(np.stack([tone, tone]), 48_000).loudness() == pytest.approx(expected, abs=0.1)


def test_ebu_3341_gating():
    """EBU Tech 3341, test case 3: −36, −23 and −36 dBFS in turn measure −23 LUFS."""
    levels = np.repeat([-36.0, -23.0, -36.0], [10 * 48_000, 60 * 48_000, 10 * 48_000])
    tone = 10 ** (levels / 20) * np.sin(2 * np.pi * 1000 * np.arange(len(levels)) / 48_000)
    assert measured(np.stack([tone, tone]), 48_000).loudness() == pytest.approx(-23.0, abs=0.1)


def test_true_peak_between_samples():
    """EBU Tech 3341, test case 16: a quarter-rate sine of −6 dBFS caught at 45°; +0.2 / −0.4 dB."""
    tone = 0.5 * np.sin(2 * np.pi * np.arange(48_000) / 4 + np.pi / 4) * signal.windows.tukey(48_000, 0.2)
    assert -6.42 < measured(tone[None, :], 48_000).true_peak() < -5.82


def test_a_voice_measures_as_pyloudnorm_says():
    samples, rate, _ = spoken("en-us")
    expected = pyloudnorm.Meter(rate, filter_class="DeMan").integrated_loudness(samples.astype(float))
    assert measured(samples[None, :], rate).loudness() == pytest.approx(expected, abs=0.1)


@pytest.mark.parametrize("rate", [22_050, 48_000, 96_000])
def test_the_band_filter_passes_its_band_and_nothing_else(rate):
    """Within 0.1 dB of 0 dB inside, 55 dB down outside; zero phase, since the taps are symmetric."""
    taps = linear_phase_band(rate, 4_000.0, None, 1_200.0)
    freqs, response = signal.freqz(taps, worN=4096, fs=rate)
    level = 20 * np.log10(np.abs(response) + 1e-9)
    assert np.abs(level[(freqs > 4_650) & (freqs < 0.45 * rate)]).max() < 0.1
    assert level[freqs < 3_350].max() < -55
    assert np.allclose(taps, taps[::-1])


def test_a_meter_of_any_rate():
    """At 192 kHz the samples themselves are near enough to the true peak (BS.1770-5, Annex 2)."""
    for rate in (8_000, 96_000, 192_000):
        meter = Meter(rate, 1)
        meter.add(0.5 * np.sin(2 * np.pi * 997 * np.arange(rate) / rate)[None, :])
        assert meter.true_peak() == pytest.approx(-6.02, abs=0.05)


@pytest.mark.parametrize("count", [12, 400])
def test_filtering_both_ways_is_scipys(count):
    """scipy.signal.sosfiltfilt, its usual ends as far as a short sound has room for them."""
    band = signal.butter(4, [0.2, 0.6], "bandpass", output="sos")
    sound = np.random.default_rng(2).standard_normal(count)
    expected = signal.sosfiltfilt(band, sound, padlen=min(27, count - 1))
    assert BothWays(band)(sound) == pytest.approx(expected, abs=1e-12)
