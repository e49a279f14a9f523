"""What `clean` takes from the start of the program to its last stem, in round trips of the same sound.

Usage: .venv/bin/python bench/clean.py [PARTS SECONDS]

PARTS (12) takes of SECONDS (60) with hum and clicks, cleaned at once, then one of four times that length with the leak
of a cue in it. R: one ShortTimeFFT round trip (2048/512) of all that sound on one core, measured before and after.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import common
import numpy as np
import soundfile as sf
from scipy import signal

from isophon.core.audio.threads import cores
from isophon.core.demo.blemishes import ear_to_microphone


def blemished(samples: np.ndarray, rate: int, seed: int) -> np.ndarray:
    """With a hum of eight partials 50 dB under full scale and a click every 4 s."""
    rng, at = np.random.default_rng(seed), np.arange(len(samples)) / rate
    hum = sum(10 ** (-(50 + 4 * k) / 20) * np.sin(2 * np.pi * 50.02 * (k + 1) * at + k) for k in range(8))
    out = (samples + hum).astype(np.float32)
    for place in rng.integers(0, len(out) - 8, len(out) // (4 * rate)):
        out[place : place + 4] += np.array([0.1, -0.25, 0.2, -0.05], np.float32)
    return out


def cleaned(arguments: list[str], folder: str) -> float:
    """Seconds that a run of `clean` takes."""
    command = [sys.executable, "-m", "isophon", "clean", *arguments, "--out", folder + "/out", "--force", "--quiet"]
    environment = {"PYTHONPATH": str(common.ROOT / "src"), "XDG_CACHE_HOME": folder + "/cache", "HOME": folder}
    start = time.perf_counter()
    subprocess.run(command, check=True, env=environment)
    return time.perf_counter() - start


def main() -> None:
    parts = int(sys.argv[1]) if len(sys.argv) > 1 else 12
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 60.0
    with tempfile.TemporaryDirectory() as folder:
        samples, rate = sf.read(common.long_take(Path(folder) / "long.wav", 4 * seconds), dtype="float32")
        size, paths = round(seconds * rate), []
        for i in range(parts):
            paths.append(f"{folder}/part {i + 1}.wav")
            first = i * (len(samples) - size) // max(1, parts - 1)
            sf.write(paths[-1], blemished(samples[first : first + size], rate, i), rate, subtype="PCM_24")
        before = common.round_trip_s(samples[:size])
        took = cleaned(paths, folder)
        whole = parts * (before + common.round_trip_s(samples[:size])) / 2
        print(f"clean, {parts} parts of {seconds:.0f} s with hum and clicks on {cores()} cores: "
              f"{took / whole:.2f} R  (aim: 4; {took:.1f} s)", flush=True)  # fmt: skip
        feed = common.feed(len(samples))
        leak = signal.oaconvolve(feed, ear_to_microphone(3))[: len(samples)]
        sf.write(folder + "/cue.wav", feed, rate, subtype="PCM_24")
        sf.write(folder + "/take.wav", samples + 10 ** (-30 / 20) * np.std(samples) / np.std(leak) * leak, rate,
                 subtype="PCM_24")  # fmt: skip
        before = common.round_trip_s(samples)
        took = cleaned([folder + "/take.wav", "--cue", folder + "/cue.wav"], folder)
        whole = (before + common.round_trip_s(samples)) / 2
        print(f"clean, one take of {4 * seconds:.0f} s with a cue: {took / whole:.2f} R  (aim: 4; {took:.1f} s)")


if __name__ == "__main__":
    main()
