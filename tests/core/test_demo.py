"""The demo singer: deterministic, labelled exactly, another with another mouth."""

import numpy as np
import pytest
from scipy import signal

from isophon.core.demo.build import load_labels, make_demo
from isophon.core.demo.score import BEAT_S, BREATH_S, LINES
from isophon.core.demo.singer import RATE, Mouth, sing
from isophon.core.session import file


def test_the_same_singer_sings_the_same_and_another_differently():
    one, labels = sing(LINES[:1], BEAT_S, BREATH_S, Mouth())
    again, same = sing(LINES[:1], BEAT_S, BREATH_S, Mouth())
    other, _ = sing(LINES[:1], BEAT_S, BREATH_S, Mouth(scale=1.0, transpose=-12))
    assert np.array_equal(one, again) and labels == same
    assert not np.array_equal(one[: len(other)], other[: len(one)])
    assert np.isfinite(one).all() and np.abs(one).max() < 1


@pytest.mark.parametrize("s_peak", [5_000.0, 7_500.0])
def test_labels_hold_the_sounds_they_name(s_peak):
    """Inside an S the energy lies around its crest, at its edges it comes and goes within 15 ms."""
    take, labels = sing(LINES[4:5], BEAT_S, BREATH_S, Mouth(s_peak=s_peak))
    alone = [x for x in labels if x.sound == "s"]
    assert len(alone) >= 2
    for label in alone:
        inside = take[int((label.start + 0.03) * RATE) : int((label.end - 0.03) * RATE)]
        freqs, power = signal.welch(inside, RATE, nperseg=1024)
        assert s_peak / 1.35 < freqs[np.argmax(power)] < s_peak * 1.35
    high = signal.sosfilt(signal.butter(4, 4_000, "high", fs=RATE, output="sos"), take)
    level = 10 * np.log10(np.convolve(high**2, np.ones(240) / 240, "same") + 1e-12)
    before = [level[int((x.start - 0.015) * RATE)] for x in alone]
    within = [level[int((x.start + x.end) / 2 * RATE)] for x in alone]
    assert np.median(np.array(within) - np.array(before)) > 12


def test_it_is_made_once_and_opens(tmp_path):
    told = []
    path = make_demo(tmp_path, told.append)
    assert told[-1] == 1.0 and len(file.load(path).parts) == 1
    stamp = next(tmp_path.glob("*.wav")).stat().st_mtime_ns
    assert make_demo(tmp_path) == path and next(tmp_path.glob("*.wav")).stat().st_mtime_ns == stamp
    labels = load_labels(tmp_path)
    assert sum(label.sharp for label in labels) >= 8
    assert {"s", "sh", "z", "ch", "f", "h", "t", "breath", "tick"} <= {label.sound for label in labels}
