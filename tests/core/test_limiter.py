"""The listening limiter: −1 dBTP whatever comes, sample by sample what it was where nothing is too loud."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import LONG
from isophon.core.audio.loudness import Meter
from isophon.core.playing.limiter import CEILING_DB, Limiter


def limited(samples, rate, sizes):
    limiter, out, at, i = Limiter(rate), [], 0, 0
    while at < len(samples):
        block = samples[at : at + sizes[i % len(sizes)]]
        out.append(limiter.process(block))
        at, i = at + len(block), i + 1
    return np.concatenate(out), limiter.delay


@settings(max_examples=8 * LONG)
@given(st.integers(0, 1 << 30), st.sampled_from([44_100, 48_000, 96_000, 192_000]), st.floats(-12, 18),
       st.lists(st.integers(1, 900), min_size=1, max_size=4))  # fmt: skip
def test_no_true_peak_goes_over_whatever_the_blocks(seed, rate, level_db, sizes):
    """Noise, a tone at a quarter of the rate (whose peaks lie between its samples) and single clicks, swelling."""
    rng, at = np.random.default_rng(seed), np.arange(rate // 4)
    tone = np.sin(np.pi / 2 * at + np.pi / 4)
    x = 0.2 * rng.standard_normal((len(at), 2)) + tone[:, None] * rng.uniform(0, 1)
    x[rng.integers(0, len(at), 8)] += rng.uniform(-3, 3)
    x = (x * np.sin(np.pi * at / len(at))[:, None] * 10 ** (level_db / 20)).astype(np.float32)
    out, _ = limited(x, rate, sizes)
    meter = Meter(rate, 2)
    meter.add(out.T)
    assert meter.true_peak() <= CEILING_DB + 0.15  # the gain itself moves between samples
    again, _ = limited(x, rate, [len(x)])
    assert np.allclose(out, again, atol=2e-6), "the same in one go"


def test_what_is_not_too_loud_stays_as_it_is_and_comes_back():
    rate, rng = 48_000, np.random.default_rng(1)
    x = (0.1 * rng.standard_normal((rate, 2))).astype(np.float32)
    x[20_000:20_100] *= 30
    out, delay = limited(x, rate, [480])
    assert delay < 0.003 * rate
    assert np.array_equal(out[delay:19_000], x[: 19_000 - delay])
    assert np.abs(out[20_000:20_300]).max() == pytest.approx(10 ** (CEILING_DB / 20), rel=0.1)
    late = slice(20_100 + round(1.0 * rate) // 2, None)
    assert np.allclose(out[late.start + delay :], x[late.start : -delay], atol=1e-3)
