"""The map is true: its red is the sound that the cleaning removes, and nothing else."""

import numpy as np
import pytest

from isophon.core.audio.files import Recording
from isophon.core.session import layout
from isophon.core.takes.changes import MOVING, Change, added, changes_of, estimated, removed
from isophon.core.takes.pictures import QUIETEST_DB, VOICE, Axis, close_margin, close_picture
from isophon.core.takes.take import open_sound
from isophon.core.work.completing import completed


@pytest.fixture(scope="module")
def cleaned(demo_take):
    """A part that was looked through: itself, and spans of it as sung and cleaned."""
    with Recording(demo_take) as recording:
        session = layout.new_session("s", [layout.Arrival("Lead", layout.source_of(recording), "lead")])
        part, _ = completed(session, session.parts[0], recording, lambda step, fraction: None)
    renderer = open_sound(part.source).renderer

    def span(start, end):
        first, count = round(start * part.source.sample_rate), round((end - start) * part.source.sample_rate)
        plan = part.plan_without(MOVING)
        return renderer.cleaned((), first, count), renderer.cleaned(plan, first, count)

    return part, span


def picture(samples, rate, columns, axis):
    margin = close_margin(rate, axis)
    return close_picture(np.pad(samples, ((0, 0), (margin, margin))), rate, columns, axis)


def power(picture_):
    """The power of a picture's levels, 0 where there is none."""
    return np.where(picture_ > 0, 10 ** ((picture_ / 2 + QUIETEST_DB) / 10), 0.0)


def test_red_is_the_sound_that_is_removed(cleaned):
    """Where the map is red, as sung is loud in what was taken out of the samples; that is hardly anywhere else."""
    part, span = cleaned
    sung, clean = span(6.0, 12.0)
    pictures = [picture(x, part.source.sample_rate, 600, VOICE) for x in (sung, clean, sung - clean)]
    red = removed(*pictures[:2])
    gone = power(pictures[2])
    loud = gone > 1e-7  # −70 dBFS in a row: what can be seen
    assert 0.005 < np.mean(loud & (red > 0)) < 0.5, "there is something to be seen"
    mostly = loud & (gone > 0.6 * power(pictures[0]))  # a change of less than 3 dB is not told
    assert np.mean(red[mostly] > 0) > 0.9 and gone[red > 0].sum() > 0.8 * gone.sum(), "what is removed is red"
    seen = loud & (red > 0)
    level = 10 * np.log10(gone[seen]) - (red[seen] / 2 + QUIETEST_DB)
    least = 20 * np.log10(1 - 10 ** (-3 / 20)) - 0.5  # of a sound that comes down by 3 dB goes no more
    assert least < np.percentile(level, 5) and np.percentile(level, 95) < 3.5, "and as red as it is loud"


def test_nothing_is_red_where_nothing_is_done_and_what_is_added_is_told():
    rng = np.random.default_rng(1)
    levels = rng.integers(60, 200, (20, 30)).astype(np.uint8)
    assert not removed(levels, levels).any() and not added(levels, levels).any()
    assert not removed(levels, levels - 5).any(), "2.5 dB are not told"
    assert np.array_equal(removed(levels, levels - 6), levels) and not added(levels, levels - 6).any()
    assert np.array_equal(added(levels - 6, levels), levels)


def test_the_estimate_is_in_its_place_before_anything_is_rendered(cleaned):
    """What marks tell of esses and breaths is where the samples lose most, by as much."""
    part, span = cleaned
    assert part.changed("ess") and part.changed("breath")
    changes = (c for c in changes_of(part, MOVING) if c.db < -3 and c.low_hz > 250)
    long = tuple(c for c in changes if c.end - c.start > 0.1)
    assert len(long) > 8
    for change in long[:10]:
        sung, clean = span(change.start + 0.02, change.end - 0.02)
        axis = Axis(max(change.low_hz * 1.3, 500.0), 12_000.0)
        both = [power(picture(x, part.source.sample_rate, 20, axis)).sum() for x in (sung, clean)]
        assert 10 * np.log10(both[1] / both[0]) == pytest.approx(change.db, abs=3.5)
    rough = estimated((100, 50), Axis(100.0, 10_000.0, 100), (2.0, 3.0), [Change(2.5, 2.7, 1_000.0, None, -6.0)])
    assert set(np.unique(rough)) == {-12, 0} and np.array_equal(np.flatnonzero(rough.any(axis=0)), np.arange(25, 35))
    assert np.array_equal(np.flatnonzero(rough.any(axis=1)), np.arange(50))
