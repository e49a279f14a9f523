"""What spoils the demo's takes: each blemish of the trade, added at exact places that the labels name."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np
import soxr
from scipy import fft, signal

from isophon.core.demo.cast import RATE, Blemishes
from isophon.core.demo.singer import Label


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
    for sound, value, noise in _steady(len(out), what, rng):
        out += noise
        labels.append(Label(0.0, seconds, sound, value=value))
    for start, end, kind in what.noises:
        _add(out, start, _dead_air(end - start, kind, rng) * 10 ** (-44 / 20))
        labels.append(Label(start, end, kind))
    if what.clip_at:
        _clip(out, *what.clip_at)
        labels.append(Label(*what.clip_at, "clipped"))
    return out.astype(np.float32), sorted(labels, key=lambda label: label.start)


def _steady(size: int, what: Blemishes, rng: np.random.Generator) -> list[tuple[str, float, np.ndarray]]:
    """What sounds all the time: its name, its frequency in Hz or 0, and its samples ``(size,)``; made side by side."""
    making: list[tuple[str, float, float, Future[np.ndarray]]] = []
    with ThreadPoolExecutor(2) as pool:
        if what.hum_dbfs is not None:
            phases = rng.uniform(0, 2 * np.pi, len(_HARMONICS))
            making.append(("hum", what.hum_hz, what.hum_dbfs, pool.submit(_hum, size, what.hum_hz, phases)))
        for sound, level, shape in (("rumble", what.rumble_dbfs, _below_28_hz), ("hiss", what.hiss_dbfs, _above_4_khz)):
            if level is not None:
                white = rng.standard_normal(fft.next_fast_len(size, real=True))
                making.append((sound, 0.0, level, pool.submit(_coloured, size, white, shape)))
    return [(sound, value, made.result() * 10 ** (level / 20)) for sound, value, level, made in making]


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


_HARMONICS = (1, 2, 3, 4, 5, 6, 7, 9, 11, 13, 15, 21, 27, 33, 39)


def _hum(size: int, hz: float, phases: np.ndarray) -> np.ndarray:
    """Mains hum: a slowly drifting fundamental and its harmonics up to 2 kHz, made at a lower rate."""
    rate = RATE // 6
    time = np.arange(size // 6 + 2) / rate
    phase = 2 * np.pi * (hz * time + 0.02 * np.sin(2 * np.pi * time / 40) * 40 / (2 * np.pi))
    total = np.zeros(len(time))
    for k, start in zip(_HARMONICS, phases, strict=True):
        level = {1: 1.0, 2: 0.35, 3: 0.6}.get(k, 0.5 / k)
        total += level * np.sin(k * phase + start)
    return soxr.resample(total, rate, RATE, "HQ")[:size]


def _below_28_hz(freqs: np.ndarray) -> np.ndarray:
    return 1 / (1 + (freqs / 28.0) ** 4)


def _above_4_khz(freqs: np.ndarray) -> np.ndarray:
    return np.minimum(1.0, freqs / 4_000)


def _coloured(size: int, white: np.ndarray, shape: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """White noise ``(length,)`` with another spectrum, ``(size,)``, at an RMS of 1."""
    gains = shape(fft.rfftfreq(len(white), 1 / RATE).astype(np.float32))
    noise = fft.irfft(fft.rfft(white.astype(np.float32)) * gains, len(white))[:size]
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
