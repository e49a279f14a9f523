"""The Floor and Breaths passes: what is found, what words lose, how the room goes on.

Usage: .venv/bin/python bench/floor.py [--quick]
"""

from __future__ import annotations

import sys

import common  # noqa: F401
import numpy as np
from scipy import signal

from conftest import look
from isophon.core.demo.cast import Mouth
from isophon.core.demo.phonemes import CONSONANTS, VOWELS
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES
from isophon.core.demo.singer import sing
from isophon.core.passes import NAMES
from isophon.core.passes.breath.find import find
from isophon.core.passes.fades import Fade
from isophon.core.passes.gap.find import find as find_gaps
from isophon.core.passes.singing import singing
from isophon.core.session.items import Source
from isophon.core.session.model import Part
from isophon.core.session.settings import role_default
from voices import VOICES, score, spoken

MOUTHS = {
    "demo": Mouth(), "soprano": Mouth(1.22, 5, 7_600, seed=2), "bass": Mouth(0.95, -14, 4_800, seed=3),
    "airy": Mouth(1.1, 0, 8_500, s_db=3, seed=4), "faint": Mouth(voice_dbfs=-45, room_dbfs=-88, seed=5),
    "noisy": Mouth(room_dbfs=-52, seed=6),
}  # fmt: skip


def breath(rng: np.random.Generator, rate: int) -> np.ndarray:
    """Air through a mouth: band noise that swells and falls, level 1."""
    size = round(rng.uniform(0.2, 0.5) * rate)
    centre = rng.uniform(1_200, 2_600)
    band = signal.butter(1, [0.45 * centre, min(2.2 * centre, 0.45 * rate)], "band", fs=rate, output="sos")
    noise = signal.sosfilt(band, rng.standard_normal(size + 2_000))[2_000:]
    shape = np.sin(np.pi * np.linspace(0, 1, size) ** rng.uniform(0.7, 1.6)) ** 0.7
    noise *= shape
    return noise / np.sqrt(np.mean(noise[shape > 0.5] ** 2))


def with_breaths(voice: str, under_db: float, seed: int = 0) -> tuple[np.ndarray, int, list, list]:
    """A spoken voice, its pauses widened and a breath put before each sentence; words and breaths in s."""
    samples, rate, phonemes = spoken(voice)
    words = [(a, b) for a, b, p in phonemes if p.strip() and not p.startswith("_")]
    rng = np.random.default_rng(seed)
    loud = np.sqrt(np.mean(samples[np.abs(samples) > 0.05 * np.abs(samples).max()] ** 2))
    pieces, moved, breaths, at, begin = [], [], [], 0.0, 0
    pauses = [i for i in range(len(words) - 1) if words[i + 1][0] - words[i][1] > 0.15]
    cuts = [round((words[i][1] + words[i + 1][0]) / 2 * rate) for i in pauses]
    for cut in [*cuts, len(samples)]:
        sound = breath(rng, rate) * loud * 10 ** (-under_db / 20)
        gap = np.zeros(round(0.25 * rate))
        close = np.zeros(round(rng.uniform(0.03, 0.15) * rate))
        breaths.append((at + 0.25, at + 0.25 + len(sound) / rate))
        block = np.concatenate([gap, sound, close])
        at += len(block) / rate
        inside = [(a, b) for a, b in words if begin <= a * rate < cut]
        moved += [(a - begin / rate + at, b - begin / rate + at) for a, b in inside]
        pieces += [block, samples[begin:cut]]
        at += (cut - begin) / rate
        begin = cut
    whole = np.concatenate(pieces)
    room = rng.standard_normal(len(whole)) * loud * 10 ** (-58 / 20)
    return (whole + room).astype(np.float32), rate, moved, breaths


def cleaned(samples: np.ndarray, rate: int) -> Part:
    """The take as a harmony, whose breaths are taken out and whose gaps are silenced: the hardest on the words."""
    surveyed, esses = look(samples, rate)
    sounds = singing(surveyed, [(m.start, m.end) for m in esses])
    breaths = find(surveyed, sounds)
    marks = tuple(
        sorted((*breaths, *find_gaps(surveyed, sounds, [(m.start, m.end) for m in breaths])), key=lambda m: m.start)
    )
    settings = {kind: role_default(kind, "harmony") for kind in NAMES}
    return Part("p", "p", Source("p", rate, 1, len(samples)), "harmony", marks=marks, found=True, **settings)


def violations(part: Part, words, slack: float = 0.01) -> int:
    """Words of which more than 10 ms are faded."""
    rate = part.source.sample_rate
    spans = [(t.first / rate, t.last / rate) for t in part.plan if isinstance(t, Fade)]
    return sum(any(min(b, end) - max(a, start) > slack for a, b in spans) for start, end in words)


def row(name: str, samples, rate, words, truth) -> np.ndarray:
    part = cleaned(samples, rate)
    breaths = [m for m in part.marks if m.kind == "breath"]
    hits, false, missed = score([(m.start, m.end) for m in breaths], truth, [])
    edges = [1000 * (m.end - e) for m in breaths for s, e in truth if m.start < e and m.end > s]
    edge = f"{np.median(np.abs(edges)):4.0f} ms" if edges else "   –"
    lost = violations(part, words)
    print(f"{name:24s} breaths {hits:3d} found {false:3d} false {missed:3d} missed   end off {edge}   "
          f"{len(words):3d} words, {lost} touched")  # fmt: skip
    return np.array([hits, false, missed, lost])


def main(quick: bool) -> None:
    total = np.zeros(4)
    for name, mouth in list(MOUTHS.items())[: 1 if quick else None]:
        samples, labels = sing(VERSES[: 2 if quick else 6], BEAT_S, BREATH_S, mouth)
        words = [(x.start, x.end) for x in labels if x.sound in CONSONANTS or x.sound in VOWELS]
        total += row(name, samples, 48_000, words, [(x.start, x.end) for x in labels if x.sound == "breath"])
    for voice in list(VOICES)[: 1 if quick else None]:
        for under in (20,) if quick else (12, 20, 30, 40):
            total += row(f"{voice} −{under} dB", *with_breaths(voice, under))
    hits, false, missed, touched = total
    print(f"breaths in all: F1 {2 * hits / (2 * hits + false + missed):.3f}; words touched: {touched:.0f}")


if __name__ == "__main__":
    main("--quick" in sys.argv)
