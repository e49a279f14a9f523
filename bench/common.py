"""What the benches share: a four-minute take of a voice, and timing as ratios within one run."""

from __future__ import annotations

import os
import sys
import threading
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as the program sets it

import numpy as np
import soundfile as sf
import soxr
from scipy import signal

ROOT = Path(__file__).resolve().parent.parent
sys.path[:0] = [str(ROOT / "src"), str(ROOT / "tests")]

from isophon.core.demo.build import make_demo  # noqa: E402
from voices import spoken  # noqa: E402

RATE = 48_000


def resident_mb(own: bool = True) -> float:
    """Resident memory of this process, where wanted, and all that it started; pages that they share count once."""
    parents = {}
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                parents[int(entry.name)] = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
            except OSError:
                continue  # it ended meanwhile
    ours = {os.getpid()}
    while more := {pid for pid, parent in parents.items() if parent in ours} - ours:
        ours |= more
    total = 0
    for pid in ours if own else ours - {os.getpid()}:
        try:
            lines = Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines()
        except OSError:
            continue
        total += sum(int(line.split()[1]) for line in lines if line.startswith("Pss:"))
    return total / 1024


def demo_session(folder: Path) -> Path:
    """The demo's session file, made in a folder; the tests name one where it is made already."""
    return make_demo(Path(os.environ.get("ISOPHON_BENCH_DEMO") or folder))


def round_trip_s(samples: np.ndarray, rate: int = RATE) -> float:
    """Seconds that one ShortTimeFFT round trip (2048/512) of a sound takes: R."""
    transform = signal.ShortTimeFFT(signal.get_window("hann", 2048), 512, rate)
    return median_time(lambda: transform.istft(transform.stft(samples), k1=len(samples)), 3)


class Watch(threading.Thread):
    """The highest memory seen."""

    def __init__(self, own: bool = True) -> None:
        super().__init__(daemon=True)
        self.own, self.peak, self.done = own, 0.0, False

    def run(self) -> None:
        while not self.done:
            self.peak = max(self.peak, resident_mb(self.own))
            time.sleep(0.5)  # a look takes some 20 ms of a core


def long_take(path: Path, seconds: float) -> Path:
    """A mono 24-bit take at 48 kHz: a spoken text again and again, in a faint room."""
    samples, rate, _ = spoken("en-us")
    samples = soxr.resample(samples, rate, RATE)
    count = int(seconds * RATE)
    rng = np.random.default_rng(0)
    whole = np.tile(samples, count // len(samples) + 1)[:count] * 0.6
    sf.write(path, whole + rng.standard_normal(count).astype(np.float32) * 1e-4, RATE, subtype="PCM_24")
    return path


def feed(count: int, seed: int = 5) -> np.ndarray:
    """What a cue might hold: coloured noise in notes, ``(count,)``."""
    rng = np.random.default_rng(seed)
    sound = signal.lfilter([1], [1, -0.97], rng.standard_normal(count))
    sound *= np.repeat(rng.random(count // 12_000 + 1) ** 3, 12_000)[:count]
    return (0.3 * sound / np.abs(sound).max()).astype(np.float32)


def median_time(work, runs: int) -> float:
    """Median seconds of a call."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        times.append(time.perf_counter() - start)
    return float(np.median(times))
