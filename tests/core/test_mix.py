"""The mix: sums of what is rendered, in place, at one rate, heard as it is compared."""

import numpy as np
import pytest
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from conftest import reader
from isophon.core.audio.converting import converted, converted_frames, read_converted
from isophon.core.heads import HEAD_BLOCK
from isophon.core.passes.ess import treat
from isophon.core.passes.rumble.treat import LowCut
from isophon.core.playing.mix import PausesAlone, Strip, gains, mixed
from isophon.core.render import Renderer
from isophon.core.render_cache import RenderCache
from isophon.core.session.items import Listening

RATE = 48_000
RNG = np.random.default_rng(5)
ONE, TWO = (RNG.standard_normal(90_000).astype(np.float32) * 0.1 for _ in range(2))
PLAN = (treat.EssCut(treat.Span(20_000, 40_000, 3_000.0, None), (480, 480), 0.25),)


def strips(cache=None):
    one, two = (Renderer(reader(x), RATE, len(x), cache) for x in (ONE, TWO))
    return Strip(one, PLAN, 0), Strip(two, PLAN, 5_000, *gains(Listening(-6.0, 0.5)), compared=False)


def test_parts_sum_where_they_start_with_their_gain_and_side():
    one, two = strips()
    heard = mixed((one, two), RATE, 0, 95_000)
    assert np.array_equal(heard.sung[0, :90_000], ONE) and np.array_equal(heard.sung[0], heard.sung[1])
    clean = one.renderer.cleaned(PLAN, 0, 90_000)[0]
    assert np.array_equal(heard.cleaned[1, :90_000], clean) and not np.array_equal(clean, ONE)
    other = two.renderer.cleaned(PLAN, 0, 90_000)[0]
    gain = 10 ** (-6 / 20)
    assert np.allclose(heard.rest[0, 5_000:], other * gain * 0.5, atol=1e-7)
    assert np.allclose(heard.rest[1, 5_000:], other * gain, atol=1e-7) and not heard.rest[:, :5_000].any()


@settings(max_examples=30, deadline=None)
@given(st.integers(-2_000, 94_000), st.integers(1, 9_000))
def test_any_span_of_the_mix_is_that_span_of_the_whole(start, frames):
    scene = strips(RenderCache())
    whole = mixed(scene, RATE, -2_000, 106_000)
    for span, all_ in zip(mixed(scene, RATE, start, frames), whole, strict=True):
        assert np.array_equal(span, all_[:, start + 2_000 : start + 2_000 + frames])


@pytest.mark.parametrize("rate", [44_100, 96_000, 22_050])
def test_another_rate_is_converted_without_delay_and_span_by_span(rate):
    """Against soxr on the whole signal, away from its ends; and stems against the same."""
    low = soxr.resample(ONE, RATE, 8_000)
    smooth = soxr.resample(low, 8_000, rate)
    read = reader(smooth)
    whole = soxr.resample(smooth, rate, RATE, "VHQ")
    inside = slice(3_000, len(whole) - 3_000)
    span = read_converted(read, rate, RATE, inside.start, inside.stop - inside.start)[0]
    assert np.abs(span - whole[inside]).max() < 2e-4 * np.abs(whole).max() + 1e-6
    frames = converted_frames(len(smooth), rate, RATE)
    stem = np.concatenate(list(converted(np.array_split(smooth[None], 7, axis=1), rate, RATE, 1, frames)), axis=1)[0]
    assert len(stem) == frames and np.abs(stem[inside] - whole[inside]).max() < 1e-4
    heard = mixed((Strip(Renderer(read, rate, len(smooth)), (), 700),), RATE, 0, 20_000)
    assert np.abs(heard.sung[0, 5_000:] - whole[4_300:19_300]).max() < 2e-4


def test_a_cache_that_is_shared_keeps_renderers_apart():
    cache = RenderCache()
    one, two = (Renderer(reader(x), RATE, len(x), cache) for x in (ONE, TWO))
    for renderer, samples in ((one, ONE), (two, TWO), (one, ONE)):
        assert np.array_equal(renderer.sung(100, 40_000)[0], samples[100:40_100])
        alone = Renderer(reader(samples), RATE, len(samples))
        assert np.array_equal(renderer.cleaned(PLAN, 0, 50_000), alone.cleaned(PLAN, 0, 50_000))


def test_what_slow_stages_leave_is_read_where_it_was_made_ahead_and_nowhere_else():
    samples = np.tile(ONE, 12)[: HEAD_BLOCK + 100_000]
    plan = (LowCut(0, len(samples), 90.0, 24, RATE), *PLAN)
    kept: dict[str, np.ndarray] = {}
    renderer = Renderer(reader(samples), RATE, len(samples), head=kept.get)
    names = renderer.head_names(plan)
    fresh = Renderer(reader(samples), RATE, len(samples))
    assert list(names) == [0, 1] and fresh.head_names(PLAN) == {}
    kept[names[0]] = fresh.head_block(plan, 0)
    assert np.abs(renderer.cleaned(plan, 0, 60_000) - fresh.cleaned(plan, 0, 60_000)).max() < 1e-6
    assert renderer.heads_made == 0, "all of it was read"
    louder = (plan[0], replace(PLAN[0], gain=0.9))
    renderer.cleaned(louder, 0, 60_000)
    assert renderer.heads_made == 0, "a change after the slow stages leaves what they made"
    renderer.cleaned(plan, HEAD_BLOCK - 1_000, 2_000)
    made = renderer.heads_made
    assert made > 0, "the second block is not there"
    other = (replace(plan[0], cut_hz=120.0), *PLAN)
    assert not set(renderer.head_names(other).values()) & set(names.values())
    assert np.abs(renderer.cleaned(other, 0, 60_000) - fresh.cleaned(other, 0, 60_000)).max() < 1e-6
    assert renderer.heads_made > made


def test_a_whole_take_is_rendered_the_same_with_and_without_what_was_made_ahead():
    samples = np.tile(ONE, 12)[: HEAD_BLOCK + 100_000]
    plan = (LowCut(0, len(samples), 90.0, 24, RATE), *PLAN)
    kept: dict[str, np.ndarray] = {}
    fresh = Renderer(reader(samples), RATE, len(samples))
    renderer = Renderer(reader(samples), RATE, len(samples), head=kept.get)
    kept |= {name: fresh.head_block(plan, index) for index, name in renderer.head_names(plan).items()}
    whole = [np.concatenate([clean for _, clean in one.blocks(plan, iter([samples[None]]))], axis=1)
             for one in (fresh, renderer)]  # fmt: skip
    assert np.array_equal(*whole)
    assert np.array_equal(renderer.cleaned(plan, 0, len(samples)), whole[0])


@settings(max_examples=20, deadline=None)
@given(st.integers(-2_000, 80_000), st.integers(1, 9_000))
def test_pauses_alone_are_lifted_and_limited_and_all_else_is_silent(start, frames):
    """Soft sound comes up by the gain, loud sound stays under the limit; any span is that span of the whole."""
    spans, gain = ((5_000, 20_000), (50_000, 70_000)), 40.0
    sound = ONE * np.where(np.arange(90_000) < 30_000, 1e-4, 1.0).astype(np.float32)
    strip = Strip(Renderer(reader(sound), RATE, 90_000), (), 1_000, pauses=PausesAlone(spans, gain))
    whole = mixed((strip,), RATE, -2_000, 106_000).sung[0, 2_000:]
    inside = np.zeros(104_000, bool)
    for first, last in spans:
        inside[first:last] = True
    assert not whole[~inside].any() and np.abs(whole).max() < 0.351
    assert np.allclose(whole[6_000:19_000], gain * sound[5_000:18_000], rtol=1e-3, atol=1e-9)
    assert np.abs(whole[51_000:69_000]).max() > 0.3
    alone = mixed((strip,), RATE, start, frames).sung[0]
    wanted = np.concatenate([np.zeros(2_000, np.float32), whole])[start + 2_000 : start + 2_000 + frames]
    assert np.array_equal(alone, wanted)
