"""The demo singer: deterministic, labelled exactly, another with another mouth."""

import numpy as np
import pytest
from scipy import signal

from isophon.core.demo.build import make_demo
from isophon.core.demo.cast import RATE, Mouth
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES
from isophon.core.demo.singer import sing
from isophon.core.demo.take import load_labels
from isophon.core.session import file


def test_the_same_singer_sings_the_same_and_another_differently():
    one, labels = sing(VERSES[:1], BEAT_S, BREATH_S, Mouth())
    again, same = sing(VERSES[:1], BEAT_S, BREATH_S, Mouth())
    other, _ = sing(VERSES[:1], BEAT_S, BREATH_S, Mouth(scale=1.0, transpose=-12))
    assert np.array_equal(one, again) and labels == same
    assert not np.array_equal(one[: len(other)], other[: len(one)])
    assert np.isfinite(one).all() and np.abs(one).max() < 1


@pytest.mark.parametrize("s_peak", [5_000.0, 7_500.0])
def test_labels_hold_the_sounds_they_name(s_peak):
    """Inside an S the energy lies around its crest, at its edges it comes and goes within 15 ms."""
    take, labels = sing(VERSES[4:5], BEAT_S, BREATH_S, Mouth(s_peak=s_peak))
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


def test_it_is_made_once_and_holds_every_blemish(demo):
    stamps = {path: path.stat().st_mtime_ns for path in demo.parent.glob("*.wav")}
    assert make_demo(demo.parent) == demo
    assert stamps == {path: path.stat().st_mtime_ns for path in demo.parent.glob("*.wav")}
    session = file.load(demo)
    assert [p.role for p in session.parts] == ["lead", "double", "harmony", "harmony", "adlib"]
    assert [g.kind for g in session.guides] == ["cue", "bed"]
    assert session.parts[-1].offset_s == 22.0 and session.parts[-1].source.sample_rate == 44_100
    assert 70 < session.span[1] < 80
    labels = {part.name: load_labels(demo.parent, part.name) for part in session.parts}
    sounds = {label.sound for rows in labels.values() for label in rows}
    assert {"s", "sh", "z", "ch", "f", "h", "t", "breath", "tick", "pop", "hum", "rumble", "hiss", "bleed", "ring",
            "chatter", "shuffle", "clipped", "word"} <= sounds  # fmt: skip
    lead, double = (np.array([x.start for x in labels[name] if x.sound == "word"]) for name in ("Lead", "Lead double"))
    late = np.abs(double[:, None] - lead[None, :]).min(axis=1)
    assert len(double) == 3 * 14 and np.median(late) > 0.01 and late.max() < 0.2
    assert sum(x.sound == "word" for x in labels["High harmony"]) == 3 * 14 - 1, "one word is missing"
