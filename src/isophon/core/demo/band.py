"""The demo's guides: the headphone feed (click and a guide tune) and the music (harmonium and hand drum)."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import signal

from isophon.core.demo.cast import RATE
from isophon.core.demo.score import BEAT_S, LINE_BEATS, SECONDS, Placed, line_at

_CHORDS = ((50, 57, 62, 65), (46, 58, 62, 65), (48, 55, 60, 64))  # one for each bar of a line


def cue(melody: list[Placed]) -> np.ndarray:
    """The headphone feed: a click on every beat, higher on the first of four, and the tune; float32 ``(n,)``."""
    out = np.zeros(round(SECONDS * RATE))
    beats = np.arange(line_at(0) % BEAT_S, SECONDS - 0.1, BEAT_S)
    first = round((line_at(0) - beats[0]) / BEAT_S)
    for i, at in enumerate(beats):
        _put(out, at, 0.6 * _click(1_760.0 if (i - first) % 4 == 0 else 1_175.0))
    for place in melody:
        at = place.at
        for syllable in place.line:
            _, note, beats_long = syllable.split("/")
            length = float(beats_long) * BEAT_S
            _put(out, at, 0.16 * _tone(float(note), length))
            at += length
    return out.astype(np.float32)


def bed() -> np.ndarray:
    """The music: a harmonium's chords and a hand drum, float32 ``(2, n)``."""
    rng = np.random.default_rng(3)
    out = np.zeros((2, round(SECONDS * RATE)))
    bar = LINE_BEATS / 3 * BEAT_S
    count = int((SECONDS - line_at(0) % bar) / bar)
    for i in range(count):
        at = line_at(0) % bar + i * bar
        for j, note in enumerate(_CHORDS[i % 3]):
            reed = 0.035 * _reed(note, bar * 1.02)
            for side, gain in enumerate((0.5 + 0.12 * j, 0.86 - 0.12 * j)):
                _put(out[side], at, gain * reed)
        for beat, level in ((0, 1.0), (1.5, 0.45), (2, 0.7), (3, 0.5), (3.5, 0.4)):
            hit = 0.16 * level * _drum(90 if beat == 0 else 150, rng)
            for side, gain in enumerate((0.8, 0.65)):
                _put(out[side], at + beat * BEAT_S, gain * hit)
    return (out * 0.8).astype(np.float32)


def _click(hz: float) -> np.ndarray:
    time = np.arange(round(0.03 * RATE)) / RATE
    return np.sin(2 * np.pi * hz * time) * np.exp(-time / 0.006)


def _hz(note: float) -> float:
    return 440.0 * 2 ** ((note - 69) / 12)


def _tone(note: float, length: float) -> np.ndarray:
    time = np.arange(round(length * 0.94 * RATE)) / RATE
    phase = 2 * np.pi * _hz(note) * time
    wave = sum(np.sin(k * phase) / k**2 for k in (1, 3, 5))
    return wave * np.minimum(1, np.minimum(time, time[::-1]) / 0.02)


@lru_cache(maxsize=16)
def _reed(note: int, length: float) -> np.ndarray:
    rng = np.random.default_rng(note)
    time = np.arange(round(length * RATE)) / RATE
    phase = 2 * np.pi * _hz(note) * (1 + rng.uniform(-4e-4, 4e-4)) * time
    wave = sum(np.sin(k * phase + rng.uniform(0, 6.28)) / k**1.2 for k in range(1, 13))
    return wave * np.minimum(1, np.minimum(time, time[::-1]) / 0.08) * (1 + 0.06 * np.sin(2 * np.pi * 5.1 * time))


def _drum(hz: float, rng: np.random.Generator) -> np.ndarray:
    time = np.arange(round(0.3 * RATE)) / RATE
    skin = np.sin(2 * np.pi * hz * time * (1 + 0.4 * np.exp(-time / 0.03))) * np.exp(-time / 0.07)
    slap = signal.lfilter([1, -0.7], [1], rng.standard_normal(len(time))) * np.exp(-time / 0.008)
    return skin + 0.35 * slap


def _put(out: np.ndarray, at: float, sound: np.ndarray) -> None:
    first = max(0, round(at * RATE))
    last = min(len(out), first + len(sound))
    if last > first:
        out[first:last] += sound[: last - first]
