"""What the benches share: a four-minute take of a voice, and timing as ratios within one run."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np
import soundfile as sf
import soxr

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "tests")]

from voices import spoken  # noqa: E402

RATE = 48_000


def long_take(path: Path, seconds: float) -> Path:
    """A mono 24-bit take at 48 kHz: a spoken text again and again, in a faint room."""
    samples, rate, _ = spoken("en-us")
    samples = soxr.resample(samples, rate, RATE)
    count = int(seconds * RATE)
    rng = np.random.default_rng(0)
    whole = np.tile(samples, count // len(samples) + 1)[:count] * 0.6
    sf.write(path, whole + rng.standard_normal(count).astype(np.float32) * 1e-4, RATE, subtype="PCM_24")
    return path


def median_time(work, runs: int) -> float:
    """Median seconds of a call."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return float(np.median(times))
