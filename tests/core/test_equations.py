"""The equations of a path against their direct solution, and how much a path leans."""

import numpy as np
import pytest
from scipy import linalg, signal

from isophon.core.passes.bleed import judging
from isophon.core.passes.bleed.equations import BLOCK, Moments, solved
from isophon.core.passes.bleed.feeds import Feeds
from isophon.core.passes.bleed.judging import judged
from isophon.core.passes.bleed.preconditioner import Preconditioner
from isophon.core.passes.bleed.weighing import STEP, at_frames, powers, weights, within

RATE, TAPS = 8_000, 90
AS_IT_IS = np.ones(1, np.float32)


@pytest.fixture(scope="module")
def known():
    """Two coloured cues through known paths, in noise that is loud for a while; take, cues, paths and weights."""
    rng = np.random.default_rng(0)
    count = 6 * BLOCK
    cues = np.stack([signal.lfilter([1], [1, -pole], rng.standard_normal(count)) for pole in (0.95, -0.7)])
    paths = rng.standard_normal((2, TAPS)) * np.exp(-np.arange(TAPS) / 15)
    noise = rng.standard_normal(count) * np.where(np.arange(count) % 9_000 < 4_000, 20.0, 0.3)
    take = sum(signal.lfilter(path, [1], cue) for path, cue in zip(paths, cues, strict=True)) + noise
    weight = 1 / (signal.oaconvolve(noise**2, np.ones(80) / 80, "same").clip(0) + 0.1)
    return take.astype(np.float32), cues.astype(np.float32), paths, weight[::STEP].astype(np.float32)


def moments(take, cues, weight, flat=AS_IT_IS):
    return Moments(take, Feeds.under(flat, cues)[0], weight, TAPS, 100)


def test_each_moment_counts_by_what_else_sounds_in_it():
    """Where something loud sounds hardly; outside chosen spans not at all. The take ends within a step."""
    rng, loud = np.random.default_rng(1), slice(3 * RATE, 4 * RATE)
    noise = 0.01 * rng.standard_normal(10 * RATE + 3).astype(np.float32)
    other = noise.copy()
    other[loud] += rng.standard_normal(RATE).astype(np.float32)
    alone = weights(powers(other), RATE, 0.02)
    told = at_frames(alone, slice(0, len(other)))
    assert len(told) == len(other) and told[loud].max() < 1e-2 < 0.2 < np.median(told[5 * RATE :])
    assert np.array_equal(at_frames(alone, slice(4_003, 4_030)), told[4_003:4_030]), "a span may begin within a step"
    assert powers(other, noise)[5 * RATE // STEP :].max() == 0
    chosen = within(alone, [(1.0, 2.0), (8.5, 99.0)], RATE)
    at = np.arange(len(alone)) * STEP / RATE
    assert np.array_equal(chosen > 0, ((at >= 1) & (at < 2)) | (at >= 8.5))


def test_the_solution_is_that_of_the_normal_equations(known):
    """Weighted ridge regression by its definition: (X'WX + R) p = X'Wy, solved by Cholesky."""
    take, cues, paths, weight = known
    unlikely = np.exp(np.arange(TAPS) / 30)
    heard = moments(take, cues, weight)
    preconditioner = Preconditioner(cues, weight, unlikely, RATE)
    columns = np.concatenate([linalg.toeplitz(cue, np.zeros(TAPS)) for cue in cues], axis=1)
    each = np.repeat(weight, STEP)
    gram, right = columns.T @ (each[:, None] * columns), columns.T @ (each * take)
    for ridge_share in (1e-4, 1e-1):
        ridge = ridge_share * heard.scale * np.tile(unlikely, 2)
        direct = linalg.solve(gram + np.diag(ridge), right, assume_a="pos").reshape(2, TAPS)
        error = np.linalg.norm(solved(heard, preconditioner, ridge_share) - direct) / np.linalg.norm(direct)
        assert error < 2e-3, ridge_share
        elsewhere = solved(heard, preconditioner, ridge_share, guess=3 * paths[::-1])
        assert np.linalg.norm(elsewhere - direct) / np.linalg.norm(direct) < 2e-3, "wherever it begins"
    assert np.linalg.norm(solved(heard, preconditioner, 1e-4) - paths) < 0.02 * np.linalg.norm(paths)


def test_what_is_whitened_where_it_is_asked_for_is_as_if_it_were_before(known):
    """Also in a part that begins later, and under all the moments of a fold."""
    take, cues, paths, weight = known
    flat = signal.firwin(31, [500, 3_000], fs=RATE, pass_zero=False).astype(np.float32)
    white = [signal.oaconvolve(sound, flat, "same").astype(np.float32) for sound in (take, *cues)]
    here, before = moments(take, cues, weight, flat), moments(white[0], np.stack(white[1:]), weight)
    odd = np.arange(len(weight)) // 700 % 2 == 1
    for one, other in ((here, before), (here.only(odd), before.only(odd))):
        assert one.scale == pytest.approx(other.scale, rel=1e-4)
        for path in (None, paths):
            (left, energy), (wanted, wanted_energy) = one.residual(path), other.residual(path)
            assert energy == pytest.approx(wanted_energy, rel=1e-3)
            assert np.linalg.norm(left - wanted) < 1e-3 * np.linalg.norm(wanted)
    feeds, _ = Feeds.under(flat, cues)
    sum_of_both = sum(signal.lfilter(path, [1], cue) for path, cue in zip(paths, white[1:], strict=True))
    assert np.abs(feeds.through(paths) - sum_of_both)[200:-200].max() < 1e-3 * np.abs(sum_of_both).max()
    later = feeds.only(slice(BLOCK, 3 * BLOCK)).through(paths)
    assert np.abs(later - sum_of_both[BLOCK : 3 * BLOCK])[200:-200].max() < 1e-3 * np.abs(sum_of_both).max()


def test_two_sides_that_share_their_sound_are_told_apart_in_a_few_steps(known, monkeypatch):
    """As the sides of a stereo cue do, in which most lies in the middle."""
    _, cues, paths, weight = known
    sides = np.stack([cues[0], 0.9 * cues[0] + 0.2 * cues[1]])
    take = sum(signal.lfilter(path, [1], side) for path, side in zip(paths, sides, strict=True)).astype(np.float32)
    steps = []
    pull = Moments.pull
    monkeypatch.setattr(Moments, "pull", lambda self, path: steps.append(1) or pull(self, path))
    found = solved(moments(take, sides, weight), Preconditioner(sides, weight, np.ones(TAPS), RATE), 1e-6)
    assert len(steps) <= 5 and np.linalg.norm(found - paths) < 0.02 * np.linalg.norm(paths)


def test_what_was_not_learned_from_judges(known):
    """A path explains other moments too; where take and cue are strangers nothing does."""
    take, cues, _, weight = known
    preconditioner = Preconditioner(cues, weight, np.ones(TAPS), RATE)
    found = judged(moments(take, cues, weight), weight, preconditioner, RATE)
    assert found.ridge_share < 1e-2 and found.explained_db > 6 and (found.bands_db > 0).all()
    strange = np.random.default_rng(5).standard_normal(len(take)).astype(np.float32)
    even = np.ones_like(weight)
    assert judged(moments(strange, cues, even), even, preconditioner, RATE).explained_db < 0


def test_the_slope_tells_which_lean_explains_more(known, monkeypatch):
    """It is that of the explained share itself, as the difference to a ridge_share that is a little more tells."""
    take, cues, _, weight = known
    preconditioner = Preconditioner(cues, weight, np.ones(TAPS), RATE)
    heard = moments(take, cues, weight)
    monkeypatch.setattr(judging, "_FLAT_DB", np.inf)  # none but the first is tried

    monkeypatch.setattr(judging, "_FIRST", 0)

    def at(ridge_share, heard=heard, weight=weight):
        monkeypatch.setattr(judging, "RIDGES", (ridge_share,))
        return judged(heard, weight, preconditioner, RATE)

    for ridge_share in (0.03, 0.3, 3.0):
        here, more = at(ridge_share), at(1.2 * ridge_share)
        slope = (more.explained_db - here.explained_db) / np.log10(1.2)
        assert here.rise_db == pytest.approx(slope, rel=0.1) and slope < -1, ridge_share
    strange = np.random.default_rng(5).standard_normal(len(take)).astype(np.float32)
    even = np.ones_like(weight)
    assert at(0.3, moments(strange, cues, even), even).rise_db > 0, "the less of a path, the better"
