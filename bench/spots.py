"""Pops and ticks of known shape and place: how many are found, what is false, how near the repair comes.

Usage: .venv/bin/python bench/spots.py [--quick]
"""

from __future__ import annotations

import sys

import common
import numpy as np
from scipy import signal

from conftest import Written, reader
from isophon.core.demo.cast import Mouth
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES
from isophon.core.demo.singer import sing
from isophon.core.finding import survey_recording
from isophon.core.passes.pop import find as pops
from isophon.core.passes.pop.treat import PopCut, apply, burst_of
from isophon.core.passes.tick import find as ticks
from isophon.core.passes.tick.treat import Repair, patch_of
from voices import ALSA, VOICES, alsa, spoken

sys.path.insert(0, str(common.ROOT / "tests" / "core"))
from test_pops_ticks import click, hits, loudness, spoiled, thump

_STOPS = ("p", "b", "t", "k", "d", "g")
MOUTHS = {"demo": Mouth(seed=41), "bass": Mouth(0.95, -14, 4_800, seed=42), "soprano": Mouth(1.22, 5, 7_600, seed=43)}


def sources(quick: bool):
    """Name, samples, rate, stops (s) and ticks that are there by nature."""
    for name in sorted(path.stem for path in ALSA.glob("*_*.wav"))[: 1 if quick else None]:
        yield f"recorded {name}", *alsa(name), [], []
    for voice in list(VOICES)[: 1 if quick else None]:
        samples, rate, phonemes = spoken(voice)
        yield voice, samples, rate, [a for a, _, p in phonemes if p.strip("'") in _STOPS], []
    for name, mouth in list(MOUTHS.items())[: 0 if quick else None]:
        samples, labels = sing(VERSES[:4], BEAT_S, BREATH_S, mouth)
        stops = [x.start for x in labels if x.sound in _STOPS]
        yield name, samples.astype(np.float32), 48_000, stops, [(x.start, x.end) for x in labels if x.sound == "tick"]


def found(samples: np.ndarray, rate: int, what) -> list:
    take = Written(samples, rate)
    surveyed = survey_recording(take)
    if what is pops:
        return list(pops.find(pops.lows_of(pops.LowRate(take.read, rate, take.frames, 1, 12_000)), surveyed))
    return [m for m in ticks.find(take.read, surveyed) if not m.sound]


def tick_rows(quick: bool) -> None:
    total, seconds, false = {}, {}, {}
    for name, clean, rate, _, natural in sources(quick):
        family = "recorded" if name.startswith("recorded") else "synthetic"
        base = [m for m in found(clean, rate, ticks) if m.confidence >= 0.5]
        known = [(m.start, m.end) for m in base] + natural
        false[family] = false.get(family, 0) + len(base) - hits(base, natural)
        seconds[family] = seconds.get(family, 0) + len(clean) / rate
        for level in (-20, -10, 0, 6):
            rng = np.random.default_rng(7)
            places = np.arange(0.2, len(clean) / rate - 0.2, 0.17) + rng.uniform(-0.05, 0.05)
            gain = loudness(clean) * 10 ** (level / 20)
            noisy, spans = spoiled(clean, rate, places, lambda r=rate, g=rng, k=gain: click(r, g) * k)
            marks = [m for m in found(noisy, rate, ticks) if m.confidence >= 0.5]
            hit = hits(marks, spans)
            there = known + spans
            extra = sum(not any(m.start < b + 0.004 and m.end > a - 0.004 for a, b in there) for m in marks)
            before, after = improvement(clean, noisy, rate, marks, spans)
            row = total.setdefault((family, level), np.zeros(4))
            row += (hit, len(spans) - hit, extra, 0)
            total[family, level, "db"] = [
                *total.get((family, level, "db"), []),
                *(b - a for a, b in zip(after, before, strict=True)),
            ]
    for (family, level), (hit, missed, extra, _) in ((k, v) for k, v in total.items() if len(k) == 2):
        better = total[family, level, "db"]
        score = 2 * hit / max(1, 2 * hit + missed + extra)
        print(f"ticks, {family:9s} {level:+3d} dB peak over the voice: {hit:.0f} found {missed:.0f} missed {extra:.0f} "
              f"false, F1 {score:.2f}, error {np.median(better or [0]):.1f} dB less (median)")  # fmt: skip
    for family, count in false.items():
        long = seconds[family]
        print(f"ticks, {family}: {count} false in {long:.0f} s of clean voice, {60 * count / long:.1f} a minute")


def improvement(clean, noisy, rate, marks, spans) -> tuple[list[float], list[float]]:
    """Error in dB of each tick that was found, before and after its repair."""
    before, after = [], []
    for mark in marks:
        if not any(mark.start < b and mark.end > a for a, b in spans):
            continue
        repair = Repair(round(mark.start * rate), round(mark.end * rate), rate, not mark.voiced)
        patch = patch_of(reader(noisy), repair)[0]
        inside = slice(repair.first, repair.last)
        before.append(10 * np.log10(np.mean((noisy - clean)[inside] ** 2) + 1e-15))
        after.append(10 * np.log10(np.mean((patch - clean[inside]) ** 2) + 1e-15))
    return before, after


def pop_rows(quick: bool) -> None:
    total, better = np.zeros(3), []
    for name, clean, rate, stops, _ in sources(quick):
        if not stops:
            false = [m for m in found(clean, rate, pops) if m.confidence >= 0.5]
            print(f"pops, {name}: {len(false)} false")
            continue
        rng = np.random.default_rng(3)
        places = [a for i, a in enumerate(stops) if i == 0 or a - stops[i - 1] > 0.4]
        for level in (-6, 0, 6):
            gain = loudness(clean) * 10 ** (level / 20)
            noisy, spans = spoiled(clean, rate, places, lambda r=rate, g=gain, n=rng: thump(0.14, r, n) * g)
            marks = [m for m in found(noisy, rate, pops) if m.confidence >= 0.5]
            hit = hits(marks, spans)
            total += (hit, len(spans) - hit, len(marks) - hit)
            out = noisy[None]
            for m in marks:
                first, last = round(m.start * rate), round((m.end + 0.02) * rate)
                cut = PopCut(first, last, (round(0.02 * rate),) * 2, 0.0, m.high_hz, rate, m.end - m.start)
                out = apply(out, 0, [(cut, burst_of(reader(noisy), cut))])
            near = np.zeros(len(clean), bool)
            for a, b in spans:
                near[round(a * rate) : round(b * rate)] = True
            low = signal.butter(4, [20, 300], "band", fs=rate, output="sos")
            errors = [np.mean(signal.sosfiltfilt(low, x - clean)[near] ** 2) for x in (noisy, out[0])]
            better.append(10 * np.log10(errors[0] / errors[1]))
    hit, missed, false = total
    score = 2 * hit / max(1, 2 * hit + missed + false)
    print(f"pops at true stops: F1 {score:.3f} ({hit:.0f} found, {missed:.0f} missed, {false:.0f} false), "
          f"error in 20 to 300 Hz {np.median(better or [0]):.1f} dB less (median)")  # fmt: skip


def main(quick: bool) -> None:
    tick_rows(quick)
    pop_rows(quick)


if __name__ == "__main__":
    main("--quick" in sys.argv)
