"""What spoils the demo's takes: each blemish of the trade, added at exact places that the labels name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import soxr
from scipy import fft, signal

from isophon.core.demo.singer import RATE, Label


@dataclass(frozen=True)
class Blemishes:
    """What a microphone and a room add. Levels in dBFS, or None for none.

    ``noises``: (start, end, ``"chatter"`` or ``"shuffle"``) in s; ``ring``: Hz,
    dB and Q of a resonance; ``boxy``: the same, low; ``leak_db``: the cue in the
    microphone against full scale of the cue; ``clip_at``: (start, end) shouted too loud.
    """

    hum_hz: float = 50.02
    hum_dbfs: float | None = -62.0
    rumble_dbfs: float | None = -58.0
    hiss_dbfs: float | None = -76.0
    pop_dbfs: float = -13.0
    noises: tuple[tuple[float, float, str], ...] = ()
    ring: tuple[float, float, float] | None = None
    boxy: tuple[float, float, float] | None = None
    leak_db: float | None = -44.0
    clip_at: tuple[float, float] | None = None
    seed: int = 1


def spoil(take: np.ndarray, labels: list[Label], cue: np.ndarray, what: Blemishes) -> tuple[np.ndarray, list[Label]]:
    """A take ``(n,)`` with blemishes added, and its labels with theirs. ``cue``: the feed, ``(n,)``, from the start."""
    rng = np.random.default_rng(what.seed)
    out, labels, seconds = take.astype(np.float64), list(labels), len(take) / RATE
    for peak in (what.ring, what.boxy):
        if peak:
            out = _resonant(out, *peak)
            labels.append(Label(0.0, seconds, "ring", value=peak[0]))
    for label in [x for x in labels if x.sound == "pop"]:
        _add(out, label.start, _burst(label, rng) * 10 ** (what.pop_dbfs / 20))
    if what.leak_db is not None:
        leak = signal.oaconvolve(cue, ear_to_microphone(what.seed))[: len(out)]
        out[: len(leak)] += leak * 10 ** (what.leak_db / 20)
        labels.append(Label(0.0, seconds, "bleed"))
    if what.hum_dbfs is not None:
        out += _hum(len(out), what.hum_hz, rng) * 10 ** (what.hum_dbfs / 20)
        labels.append(Label(0.0, seconds, "hum", value=what.hum_hz))
    if what.rumble_dbfs is not None:
        out += _coloured(len(out), rng, lambda f: 1 / (1 + (f / 28.0) ** 4)) * 10 ** (what.rumble_dbfs / 20)
        labels.append(Label(0.0, seconds, "rumble"))
    if what.hiss_dbfs is not None:
        out += _coloured(len(out), rng, lambda f: np.minimum(1.0, f / 4_000)) * 10 ** (what.hiss_dbfs / 20)
        labels.append(Label(0.0, seconds, "hiss"))
    for start, end, kind in what.noises:
        _add(out, start, _dead_air(end - start, kind, rng) * 10 ** (-44 / 20))
        labels.append(Label(start, end, kind))
    if what.clip_at:
        _clip(out, *what.clip_at)
        labels.append(Label(*what.clip_at, "clipped"))
    return out.astype(np.float32), sorted(labels, key=lambda label: label.start)


def ear_to_microphone(seed: int) -> np.ndarray:
    """How the headphone reaches the microphone: 0.4 ms to 2 ms of way, early reflections, no lows and little top."""
    rng = np.random.default_rng(seed)
    path = np.zeros(round(0.03 * RATE))
    first = rng.uniform(0.0004, 0.002)
    path[round(first * RATE)] = 1.0
    for _ in range(10):
        path[round((first + rng.uniform(0.001, 0.026)) * RATE)] += rng.choice([-1, 1]) * rng.uniform(0.05, 0.3)
    band = signal.butter(2, [400, 7_000], "band", fs=RATE, output="sos")
    return signal.sosfilt(band, path)


def _resonant(x: np.ndarray, hz: float, gain_db: float, q: float) -> np.ndarray:
    """A peak after the Audio EQ Cookbook (R. Bristow-Johnson, W3C note)."""
    a, w = 10 ** (gain_db / 40), 2 * np.pi * hz / RATE
    alpha, cos = np.sin(w) / (2 * q), np.cos(w)
    return signal.lfilter([1 + alpha * a, -2 * cos, 1 - alpha * a], [1 + alpha / a, -2 * cos, 1 - alpha / a], x)


def _burst(label: Label, rng: np.random.Generator) -> np.ndarray:
    """A blow of air: below some 100 Hz, a fast rise and a slow fall."""
    size = round((label.end - label.start) * RATE)
    time = np.arange(size) / RATE
    low = signal.butter(2, 110, "low", fs=RATE, output="sos")
    air = signal.sosfilt(low, rng.standard_normal(size + 4_800))[4_800:]
    swing = np.sin(2 * np.pi * np.cumsum(np.geomspace(70, 28, size)) / RATE)
    shape = (1 - np.exp(-time / 0.004)) * np.exp(-time / 0.035) * np.minimum(1, (size - np.arange(size)) / 480)
    return shape * (swing + air / (np.abs(air).max() + 1e-9))


def _hum(size: int, hz: float, rng: np.random.Generator) -> np.ndarray:
    """Mains hum: a slowly drifting fundamental and its harmonics up to 2 kHz, made at a lower rate."""
    rate = RATE // 6
    time = np.arange(size // 6 + 2) / rate
    phase = 2 * np.pi * (hz * time + 0.02 * np.sin(2 * np.pi * time / 40) * 40 / (2 * np.pi))
    total = np.zeros(len(time))
    for k in (1, 2, 3, 4, 5, 6, 7, 9, 11, 13, 15, 21, 27, 33, 39):
        level = {1: 1.0, 2: 0.35, 3: 0.6}.get(k, 0.5 / k)
        total += level * np.sin(k * phase + rng.uniform(0, 2 * np.pi))
    return soxr.resample(total, rate, RATE, "HQ")[:size]


def _coloured(size: int, rng: np.random.Generator, shape: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    length = fft.next_fast_len(size, real=True)
    spectrum = fft.rfft(rng.standard_normal(length)) * shape(fft.rfftfreq(length, 1 / RATE))
    noise = fft.irfft(spectrum, length)[:size]
    return noise / np.sqrt(np.mean(noise**2))


def _dead_air(seconds: float, kind: str, rng: np.random.Generator) -> np.ndarray:
    """Somebody moves (bursts of broad noise) or talks far from the microphone (a mumble)."""
    size = round(seconds * RATE)
    time = np.arange(size) / RATE
    if kind == "shuffle":
        band = signal.butter(2, [300, 5_000], "band", fs=RATE, output="sos")
        sound = signal.sosfilt(band, rng.standard_normal(size))
        pulse = np.maximum(0, np.sin(2 * np.pi * 3.1 * time + 0.6)) ** 2
    else:
        tone = signal.sawtooth(2 * np.pi * np.cumsum(118 + 16 * np.sin(2 * np.pi * 1.3 * time)) / RATE)
        band = signal.butter(2, [250, 1_400], "band", fs=RATE, output="sos")
        sound = signal.sosfilt(band, tone)
        pulse = np.maximum(0, np.sin(2 * np.pi * 2.2 * time)) ** 0.7
    edge = np.minimum(1, np.minimum(time, time[::-1]) / 0.03)
    return sound / np.sqrt(np.mean(sound**2)) * pulse * edge


def _clip(out: np.ndarray, start: float, end: float) -> None:
    """Raise a stretch until its highest peaks are cut off at full scale."""
    span = slice(round(start * RATE), round(end * RATE))
    edge = np.minimum(1, np.minimum(np.arange(span.stop - span.start), np.arange(span.stop - span.start)[::-1]) / 2_400)
    gain = 1.25 / np.abs(out[span]).max()
    out[span] *= 1 + (gain - 1) * edge
    np.clip(out, -1.0, 1.0, out=out)


def _add(out: np.ndarray, at: float, sound: np.ndarray) -> None:
    first = round(at * RATE)
    last = min(len(out), first + len(sound))
    out[first:last] += sound[: last - first]
