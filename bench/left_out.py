"""Figures on connected voices that nothing was fitted on: each kind, voice by voice, and how often marks are right.

Usage: PYTHONPATH=src .venv/bin/python bench/left_out.py

Ticks, pops and breaths are mixed into descriptions read in five languages (fit/read_aloud.py); esses are told by the
phoneme events of espeak-ng in five languages, two of its voices also whispered, belted and in falsetto. The table is
kept in left_out.md.
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import common  # noqa: F401
import numpy as np
import soundfile as sf
from scipy import signal

from voices import sibilants, speak_now, undecided

sys.path.insert(0, str(Path(__file__).parent / "fit"))

import read_aloud
import soxr
import tick
from resynthesis import WAYS, said_again

from isophon.core.audio.files import Recording
from isophon.core.audio.pitch import HOP_S, track_pitch
from isophon.core.audio.pitch import RATE as PITCH_RATE
from isophon.core.finding import find_all, survey_recording

Span = tuple[float, float]
TABLE = Path(__file__).with_suffix(".md")
_SEED, _TAKES = 900, 6
_READ = ("es", "ro", "el", "bg", "pt_BR")
_SPOKEN = ("fr+m3", "nl+f4", "pl+m1", "sv+f2", "fi+m7")
_SAID_AGAIN = tuple(f"{speaker} {way}" for speaker in ("pl+m1", "fr+f3") for way in WAYS)
_EDGES = (0.0, 0.5, 0.6, 0.7, 0.8, 0.9, 0.97, 1.001)


@dataclass(frozen=True)
class Take:
    """A sound with the spans that are to be found, and those of which nothing is told."""

    samples: np.ndarray
    rate: int
    wanted: list[Span]
    untold: list[Span]


@dataclass(frozen=True)
class Counted:
    """Found, wanted and false marks, minutes, and of each mark its confidence and whether it is right."""

    hits: int
    wanted: int
    false: int
    minutes: float
    marks: list[tuple[float, bool]]


def ticks(voice: str, seed: int) -> Take:
    return Take(*tick.damaged(voice, seed))


def pops(voice: str, seed: int) -> Take:
    """Thumps 0 to 17 dB over the voice (their peak) where two in five phrases begin."""
    rng = np.random.default_rng(seed)
    samples, rate, spans = read_aloud.take(voice, rng)
    level = read_aloud.loudness(samples)
    lows = signal.sosfilt(signal.butter(4, 70, fs=rate, output="sos"), samples)
    size = rate // 50
    loud = np.flatnonzero(np.square(lows[: len(lows) // size * size]).reshape(-1, size).mean(axis=1) > 0.25 * level**2)
    untold, wanted = [(i / 50 - 0.06, i / 50 + 0.08) for i in loud], []
    for start, _ in spans:
        if rng.random() < 0.4:
            sound, length = thump(rate, rng)
            sound = sound * level * 10 ** (rng.uniform(0, 17) / 20)
            first = max(0, round((start + rng.uniform(-0.01, 0.03)) * rate))
            samples[first : first + len(sound)] += sound[: len(samples) - first]
            wanted.append((first / rate, first / rate + length))
    return Take(scaled(samples), rate, wanted, untold)


def thump(rate: int, rng: np.random.Generator) -> tuple[np.ndarray, float]:
    """A blown P of peak 1 and its length in s: a decaying wave of 25 to 120 Hz, a one-sided push, or low noise."""
    length, hz = rng.uniform(0.03, 0.12), rng.uniform(25, 120)
    at = np.arange(int(2.2 * length * rate)) / rate
    kind = rng.integers(3)
    if kind == 0:
        out = np.sin(2 * np.pi * hz * at + rng.uniform(-0.5, 0.5)) * np.exp(-2.4 * at / length)
    elif kind == 1:
        out = np.exp(-2 * at / length) * (1 - np.exp(-at / 0.004)) - 0.4 * np.exp(-at / length) * (
            1 - np.exp(-at / 0.012)
        )
    else:
        low = signal.butter(2, [25, rng.uniform(70, 120)], "band", fs=rate, output="sos")
        out = signal.sosfilt(low, rng.standard_normal(len(at) + rate // 10))[-len(at) :]
        out *= (1 - np.exp(-at / 0.006)) * np.exp(-1.8 * at / length)
    out *= np.minimum(1, at / 0.002) * np.clip((at[-1] - at) / (0.4 * at[-1]), 0, 1)
    return rng.choice([-1, 1]) * out / np.abs(out).max(), length


def breaths(voice: str, seed: int) -> Take:
    """Intakes 38 to 12 dB under the voice, but 6 dB over the room, in two of three pauses that are long enough."""
    rng = np.random.default_rng(seed)
    samples, rate, spans = read_aloud.take(voice, rng, pause_s=(0.4, 1.6))
    level, wanted = read_aloud.loudness(samples), []
    for (_, end), (start, _) in pairwise(spans):
        room = start - end - 0.2
        if room < 0.2 or rng.random() > 0.65:
            continue
        length = min(rng.uniform(0.15, 0.9), room)
        first = round((start - rng.uniform(0.03, max(0.04, min(0.2, room - length))) - length) * rate)
        still = np.sqrt(np.square(samples[first : first + round(length * rate)]).mean())
        sound = intake(rate, length, rng) * max(level * 10 ** (rng.uniform(-38, -12) / 20), 2 * still)
        samples[first : first + len(sound)] += sound
        wanted.append((first / rate, first / rate + length))
    return Take(scaled(samples), rate, wanted, [])


def intake(rate: int, length: float, rng: np.random.Generator) -> np.ndarray:
    """A breath of RMS 1: noise through three wide resonances, slow to rise and quicker to fall."""
    count = round(length * rate)
    hz = np.fft.rfftfreq(count, 1 / rate)
    centres = rng.uniform(500, 900), rng.uniform(1_200, 2_000), rng.uniform(2_600, 6_500)
    shape = 0.12 + sum(rng.uniform(0.3, 1) * np.exp(-0.5 * ((hz - c) / (0.3 * c)) ** 2) for c in centres)
    shape *= hz / (hz + 250) / (1 + (hz / rng.uniform(6_000, 11_000)) ** 4)
    out = np.fft.irfft(np.fft.rfft(rng.standard_normal(count)) * shape, count)
    at, top = np.arange(count) / count, rng.uniform(0.4, 0.85)
    out *= np.where(at < top, np.sin(np.pi / 2 * at / top), np.cos(np.pi / 2 * (at - top) / (1 - top))) ** 1.3
    return out / np.sqrt(np.square(out).mean())


def esses(voice: str, seed: int) -> Take:
    """What espeak-ng says, through a microphone and in a room of its own."""
    rng = np.random.default_rng(seed)
    speaker, _, way = voice.partition(" ")
    samples, rate, phonemes = speak_now(speaker, read_aloud.SENTENCES[speaker.split("+")[0]])
    if way:
        f0, _ = track_pitch(soxr.resample(samples, rate, PITCH_RATE))
        samples = said_again(samples.astype(float), rate, f0, HOP_S, way)
    samples = read_aloud.through_microphone(samples.astype(float), rate, rng)
    samples *= 10 ** (rng.uniform(-32, -16) / 20) / read_aloud.loudness(samples)
    samples += 10 ** (rng.uniform(-76, -58) / 20) * rng.standard_normal(len(samples))
    return Take(scaled(samples), rate, sibilants(phonemes), undecided(phonemes))


def scaled(samples: np.ndarray) -> np.ndarray:
    return samples * 0.98 / max(0.98, float(np.abs(samples).max()))


def shared(one: Span, other: Span) -> float:
    return min(one[1], other[1]) - max(one[0], other[0])


FITS: dict[str, Callable[[Span, Span], bool]] = {
    "tick": lambda mark, want: shared(mark, want) >= -0.005,
    "pop": lambda mark, want: shared(mark, want) >= -0.03,
    "breath": lambda mark, want: shared(mark, want) > 0.5 * (max(mark[1], want[1]) - min(mark[0], want[0])),
    "ess": lambda mark, want: shared(mark, want) >= 0.4 * min(mark[1] - mark[0], want[1] - want[0]),
}
KINDS = {
    "tick": (ticks, _READ),
    "pop": (pops, _READ),
    "breath": (breaths, _READ),
    "ess": (esses, (*_SPOKEN, *_SAID_AGAIN)),
}


def counted(kind: str, voice: str, seed: int) -> Counted:
    """One take, made, looked through and compared with its truth."""
    take, fits = KINDS[kind][0](voice, seed), FITS[kind]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.wav"
        sf.write(path, take.samples.astype(np.float32), take.rate, subtype="FLOAT")
        with Recording(path) as recording:
            marks = find_all(recording, survey_recording(recording), wanted=(kind,)).marks
    marks = [m for m in marks if m.kind == kind and getattr(m, "sound", "") not in ("t", "f", "clipped", "dropout")]
    told, hits, false = [], set(), 0
    for mark in marks:
        span = (mark.start, mark.end)
        right = [i for i, want in enumerate(take.wanted) if fits(span, want)]
        hits |= set(right)
        if not right and any(shared(span, other) >= 0.5 * (span[1] - span[0]) for other in take.untold):
            continue
        false += not right
        told.append((mark.confidence, bool(right)))
    return Counted(len(hits), len(take.wanted), false, len(take.samples) / take.rate / 60, told)


def row(kind: str, voice: str, some: list[Counted]) -> str:
    hits, wanted, false, minutes = (sum(getattr(one, name) for one in some)
                                    for name in ("hits", "wanted", "false", "minutes"))  # fmt: skip
    f1 = 2 * hits / max(1, hits + false + wanted)
    return f"| {kind} | {voice} | {f1:.3f} | {hits} of {wanted} | {false / minutes:.2f} |"


def reliability(kind: str, some: list[Counted]) -> list[str]:
    sure, right = np.array([mark for one in some for mark in one.marks]).reshape(-1, 2).T
    parts = [(sure >= low) & (sure < high) for low, high in pairwise(_EDGES)]
    return [
        f"| {kind} | {sure[part].mean():.2f} | {right[part].mean():.2f} | {part.sum()} |"
        for part in parts
        if part.any()
    ]


def main() -> None:
    jobs = [(kind, voice, _SEED + i) for kind, (_, voices) in KINDS.items() for voice in voices for i in range(_TAKES)]
    with ProcessPoolExecutor() as pool:
        done = list(pool.map(counted, *zip(*jobs, strict=True)))
    rows = ["# Voices that nothing was fitted on", "", "Made by `bench/left_out.py`.", "",
            "| kind | voice | F1 | found | false a minute |", "|---|---|---|---|---|"]  # fmt: skip
    told = [
        "",
        "How often marks of a confidence are right:",
        "",
        "| kind | confidence | right | marks |",
        "|---|---|---|---|",
    ]
    for kind, (_, voices) in KINDS.items():
        of_kind = {
            voice: [one for one, job in zip(done, jobs, strict=True) if job[:2] == (kind, voice)] for voice in voices
        }
        everyone = [one for some in of_kind.values() for one in some]
        rows += [row(kind, voice, some) for voice, some in (*of_kind.items(), ("all", everyone))]
        told += reliability(kind, everyone)
    TABLE.write_text("\n".join([*rows, *told]) + "\n", encoding="utf-8")
    print(TABLE.read_text(encoding="utf-8"))


if __name__ == "__main__":
    main()
