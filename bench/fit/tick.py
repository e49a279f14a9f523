"""Fits how likely a short peak is a tick, on recorded voices with ticks at known places.

Usage: PYTHONPATH=src .venv/bin/python bench/fit/tick.py

Prints the weights for ``passes/tick/likelihood.py``, and figures on the voices that were left out of the fit: F1, ticks
found too much a minute, and how often marks of a confidence are right.
"""

from __future__ import annotations

import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np
import read_aloud
import soundfile as sf
from scipy import optimize, signal

from isophon.core.audio.files import Recording
from isophon.core.finding import survey_recording
from isophon.core.passes.tick.likelihood import likelihood
from isophon.core.passes.tick.peaks import Peaks, peaks_of

EVERYWHERE = (
    "over_far", "over_near", "over_other", "crest", "falls", "width", "change", "like_less", "like_more", "double",
    "crowd",
)  # fmt: skip
MEASURES = {True: EVERYWHERE, False: (*EVERYWHERE, "beside", "still")}  # in the voice, and elsewhere
_TAKES, _OF_LEFT_OUT, _FEW = 32, 5, 100  # takes a voice; a voice of fewer files gets a third
_VOICE_DB, _PAUSE_DB, _PAUSE_SHARE, _A_SECOND = (14.0, 34.0), (18.0, 42.0), 0.6, 0.5
_UNHEARD_DB, _OFF_S, _RIDGE = 42.0, 0.004, 1.0
_OWN_DB, _QUIETEST = 10.0, 10 ** (-70 / 20)

Span = tuple[float, float]


@dataclass(frozen=True)
class Marked:
    """A take's peaks, which tick each is part of (−1: none, −2: not told), and how many ticks and minutes there are."""

    peaks: Peaks
    of: np.ndarray
    ticks: int
    minutes: float


def click(rate: int, rng: np.random.Generator) -> np.ndarray:
    """A mouth click of peak 1: one or two damped tones or a burst, hard or soft at its begin, three in ten doubled."""
    decay_s = np.exp(rng.uniform(np.log(8e-5), np.log(1.4e-3)))
    count = int(rate * min(0.008, 8 * decay_s)) + 8
    at = np.arange(count) / rate
    kind = rng.integers(4)
    hz = np.exp(rng.uniform(np.log(1_200), np.log(min(9_500, 0.42 * rate))))
    if kind == 3:
        high_pass = signal.butter(2, rng.uniform(900, 2_500), "high", fs=rate, output="sos")
        out = signal.sosfilt(high_pass, rng.standard_normal(count)) * np.exp(-at / decay_s)
    else:
        out = np.sin(2 * np.pi * hz * at + rng.uniform(0, 6.3)) * np.exp(-at / decay_s)
    if kind in (1, 2):
        other = np.sin(2 * np.pi * min(hz * rng.uniform(1.2, 2.2), 0.46 * rate) * at + rng.uniform(0, 6.3))
        out += rng.uniform(0.3, 0.9) * other * np.exp(-at / (decay_s * rng.uniform(0.4, 1.2)))
    if kind == 2:
        out *= 1 - np.exp(-at / (decay_s * rng.uniform(0.2, 0.8)))
    if rng.random() < 0.3:
        later = np.zeros(int(rate * rng.uniform(0.0015, 0.015)))
        out = np.concatenate([out, later]) + np.concatenate([later, rng.uniform(0.4, 1) * out])
    return out * rng.choice([-1, 1]) / np.abs(out).max()


def own_clicks(high: np.ndarray, rate: int) -> list[Span]:
    """The recording's own clicks, of which nobody knows the truth: half a millisecond 10 dB over all beside it."""
    size = rate // 2_000
    level = np.abs(high[: len(high) // size * size]).reshape(-1, size).max(axis=1)
    windows, at = np.lib.stride_tricks.sliding_window_view, np.arange(30, len(level) - 40)
    beside = np.maximum(windows(level, 24).max(axis=1)[at - 30], windows(level, 28).max(axis=1)[at + 12])
    at = at[(level[at] > _QUIETEST) & (level[at] > 10 ** (_OWN_DB / 20) * beside)]
    return [(i * size / rate - 0.01, i * size / rate + 0.012) for i in at]


def damaged(language: str, seed: int) -> tuple[np.ndarray, int, list[Span], list[Span]]:
    """A take with ticks, its rate, the spans of the ticks and those of which nothing is told."""
    rng = np.random.default_rng(seed)
    samples, rate, spans = read_aloud.take(language, rng)
    voice = read_aloud.loudness(samples)
    high = signal.sosfiltfilt(signal.butter(4, 2_000, "high", fs=rate, output="sos"), samples)
    wanted, untold = [], own_clicks(high, rate)
    places = []
    for start, end in spans:
        for at in rng.uniform(start + 0.05, end - 0.05, rng.poisson(_A_SECOND * (end - start))):
            if not hisses(samples, high, at, rate, voice):
                places.append((at, rng.uniform(*_VOICE_DB)))
    for (_, end), (start, _) in pairwise(spans):
        if start - end > 0.3 and rng.random() < _PAUSE_SHARE:
            places.append((rng.uniform(end + 0.08, start - 0.08), rng.uniform(*_PAUSE_DB)))
    last = -1.0
    for at, over_db in sorted(places):
        if at - last < 0.06:
            continue
        last, first = at, int(at * rate)
        usual = np.sqrt(np.square(around(high, at, rate)).mean())
        peak = min((usual + 1e-9) * 10 ** (over_db / 20), 0.5)
        sound = peak * click(rate, rng)[: len(samples) - first]
        samples[first : first + len(sound)] += sound
        heard = peak > voice * 10 ** (-_UNHEARD_DB / 20)
        (wanted if heard else untold).append((at, at + len(sound) / rate))
    return samples * 0.98 / max(0.98, float(np.abs(samples).max())), rate, wanted, untold


def around(samples: np.ndarray, at: float, rate: int) -> np.ndarray:
    """12 ms before and 18 ms after a moment."""
    return samples[max(0, int((at - 0.012) * rate)) : int((at + 0.018) * rate)]


def hisses(samples: np.ndarray, high: np.ndarray, at: float, rate: int, voice: float) -> bool:
    """Whether a sibilant sounds there."""
    bright, everything = (np.square(around(x, at, rate)).mean() for x in (high, samples))
    return bool(bright > 0.25 * everything and everything > 1e-3 * voice**2)


def marked(job: tuple[str, int]) -> Marked:
    """A take's peaks with the truth of each."""
    samples, rate, wanted, untold = damaged(*job)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.wav"
        sf.write(path, samples.astype(np.float32), rate, subtype="FLOAT")
        with Recording(path) as recording:
            peaks = peaks_of(recording.read, survey_recording(recording))
    at = peaks.start + 0.0005
    of = np.full(len(at), -1)
    for start, end in untold:
        of[(at > start - _OFF_S) & (at < end + _OFF_S)] = -2
    for i, (start, end) in enumerate(wanted):
        of[(at > start - _OFF_S) & (at < end + _OFF_S)] = i
    return Marked(peaks, of, len(wanted), len(samples) / rate / 60)


def fitted(takes: list[Marked], voiced: bool) -> dict[str, float]:
    """The weights of the peaks in the voice, or of the others: the likeliest, with a small ridge."""
    rows, right = [], []
    for take in takes:
        mine = (take.peaks.voiced > 0) == voiced
        mine &= take.of > -2
        rows.append(np.stack([getattr(take.peaks, name)[mine] for name in MEASURES[voiced]], axis=1))
        right.append(take.of[mine] >= 0)
    x, y = np.concatenate(rows), np.concatenate(right).astype(float)
    mean, spread = x.mean(axis=0), x.std(axis=0) + 1e-9
    z = np.column_stack([(x - mean) / spread, np.ones(len(x))])

    def cost(w: np.ndarray) -> tuple[float, np.ndarray]:
        score = z @ w
        slope = 1 / (1 + np.exp(-score)) - y
        ridge = np.append(w[:-1], 0)
        return float(
            np.logaddexp(0, score).sum() - y @ score + 0.5 * _RIDGE * ridge @ ridge
        ), z.T @ slope + _RIDGE * ridge

    w = optimize.minimize(cost, np.zeros(z.shape[1]), jac=True, method="L-BFGS-B").x
    weights = w[:-1] / spread
    told = dict(zip(MEASURES[voiced], weights.tolist(), strict=True))
    return told | {"": float(w[-1] - weights @ mean)}


def figures(takes: list[Marked], least: float) -> tuple[float, float]:
    """F1 and false marks a minute where peaks of this likelihood and more are marked."""
    hits = false = 0
    for take in takes:
        sure = likelihood(take.peaks) >= least
        hits += len(set(take.of[sure & (take.of >= 0)]))
        wrong = take.peaks.start[sure & (take.of == -1)]
        false += np.count_nonzero(np.diff(wrong, prepend=-1.0) > 0.005)
    wanted = sum(take.ticks for take in takes)
    return 2 * hits / (hits + false + wanted), false / sum(take.minutes for take in takes)


def reliability(takes: list[Marked]) -> list[str]:
    """Of peaks of a likelihood, how many are ticks."""
    sure = np.concatenate([likelihood(take.peaks)[take.of > -2] for take in takes])
    right = np.concatenate([take.of[take.of > -2] >= 0 for take in takes])
    edges = (0.0, 0.1, 0.3, 0.5, 0.7, 0.9, 1.001)
    return [f"{sure[here].mean():.2f}: {right[here].mean():.2f} of {here.sum()}"
            for low, high in pairwise(edges)
            if (here := (sure >= low) & (sure < high)).any()]  # fmt: skip


def taken(names: tuple[str, ...], count: int, first_seed: int) -> dict[str, list[Marked]]:
    """So many takes of each voice, with its peaks."""
    counts = {name: count if len(read_aloud.files()[name]) > _FEW else max(3, count // 3) for name in names}
    jobs = [(name, first_seed + i) for name in names for i in range(counts[name])]
    with ProcessPoolExecutor() as pool:
        done = list(pool.map(marked, jobs))
    return {name: [take for take, job in zip(done, jobs, strict=True) if job[0] == name] for name in names}


def main() -> None:
    everyone = [take for takes in taken(read_aloud.FITTED, _TAKES, 1_000).values() for take in takes]
    for name, voiced in (("IN_VOICE", True), ("ELSEWHERE", False)):
        weights = fitted(everyone, voiced)
        print(f"{name}: dict[str, float] = {{")
        print("\n".join(f'    "{key}": {value:.4g},' for key, value in weights.items()) + "\n}", flush=True)
    print("what is in likelihood.py now, on the voices left out:")
    left_out = taken(read_aloud.LEFT_OUT, _OF_LEFT_OUT, 100)
    everyone = [take for takes in left_out.values() for take in takes]
    for name, some in (*left_out.items(), ("all", everyone)):
        told = ((least, *figures(some, least)) for least in (0.4, 0.5, 0.6))
        print(name, *(f"from {least}: F1 {f1:.3f}, {false:.2f} false a minute;" for least, f1, false in told))
    print("reliability", *reliability(everyone), sep="\n  ")


if __name__ == "__main__":
    main()
