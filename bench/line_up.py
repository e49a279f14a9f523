"""Line-up on doubles whose lateness is known: one voice against itself through a smooth warp of its time.

Usage: .venv/bin/python bench/line_up.py [--quick] [RECORDING ...]
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import common  # noqa: F401  (finds the sources)
import numpy as np
import soundfile as sf
from scipy.interpolate import PchipInterpolator

from isophon.core.audio.files import Recording
from isophon.core.demo.cast import RATE, Mouth
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES
from isophon.core.demo.singer import sing
from isophon.core.finding import find_against, find_all, survey_recording
from isophon.core.passes.timing.treat import moved
from isophon.core.session import adopting, layout

_MOST_S, _KNOTS_S, _OUT_MS = 0.15, 1.7, 36  # up to 35 ms late allowed
_MOUTHS = (Mouth(), Mouth(scale=1.0, transpose=-12), Mouth(scale=1.16, transpose=3, s_peak=7_000.0))


def warped(samples: np.ndarray, rate: int, seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The take sung again, up to 150 ms early or late; times in s and how much later the double is there."""
    rng = np.random.default_rng(seed)
    times = np.arange(len(samples)) / rate
    knots = np.arange(0, times[-1] + 2 * _KNOTS_S, _KNOTS_S)
    later = PchipInterpolator(knots, rng.uniform(-_MOST_S, _MOST_S, len(knots)))(times)
    again = np.interp(times - later, times, samples) + rng.standard_normal(len(samples)) * 1e-4
    return again.astype(np.float32), times, later


def errors(samples: np.ndarray, rate: int, seed: int) -> np.ndarray:
    """Of starts and ends of all words: ms later than the lead's, before and after, ``(2, n)``."""
    again, times, later = warped(samples, rate, seed)
    with tempfile.TemporaryDirectory() as folder:
        paths = [Path(folder) / name for name in ("lead.wav", "double.wav")]
        for path, sound in zip(paths, (samples, again), strict=True):
            sf.write(path, sound, rate, "FLOAT")
        with Recording(paths[0]) as lead, Recording(paths[1]) as double:
            surveys = [survey_recording(one) for one in (lead, double)]
            found = find_all(double, surveys[1])
            beside = find_against(double, surveys[1], surveys[0], 0.0)
            arrivals = [
                layout.Arrival(p.stem, layout.source_of(r), p.stem) for p, r in zip(paths, (lead, double), strict=True)
            ]
    session = layout.new_session("bench", arrivals)
    part = session.parts[1]
    session = adopting.adopt_findings(session, part.id, adopting.Findings(
        part.source, found.marks, surveys[1].voice_lufs, surveys[1].floor_dbfs, found.measured))  # fmt: skip
    found_beside = adopting.Beside(beside.marks, beside.measured, "bench")
    part = adopting.adopt_beside(session, part.id, found_beside).part(part.id)
    moments = np.array([t for mark in part.of_kind("timing") for t in mark.span])
    before = np.interp(moments, times, later)
    after = np.array([moved(part, t) for t in moments]) - (moments - before)
    return 1000 * np.array([before, after])


def told(name: str, samples: np.ndarray, rate: int, seed: int) -> None:
    """One line: how far moments were from 8 ms after the lead's, and are."""
    before, after = errors(samples, rate, seed)
    wanted, was = np.abs(after - 8), np.abs(before - 8)
    out = np.abs(before) > _OUT_MS
    print(f"{name:24s} {len(before):3d} starts and ends: median {np.median(np.abs(before)):.0f} and 90th percentile "
          f"{np.percentile(np.abs(before), 90):.0f} ms as sung; {np.median(wanted):.1f} and "
          f"{np.percentile(wanted, 90):.1f} ms from where they should be lined up (aims: 8, 20); "
          f"{100 * np.mean(wanted[out] < was[out]):.0f} % of those that were out are better (aim: 95), "
          f"{np.count_nonzero(wanted > np.maximum(was + 10, 30))} worse (aim: 0)")  # fmt: skip


def main() -> None:
    quick = "--quick" in sys.argv
    for seed, mouth in enumerate(_MOUTHS[: 1 if quick else None]):
        samples, _ = sing(VERSES[: 2 if quick else 8], BEAT_S, BREATH_S, mouth)
        told(f"demo singer {seed + 1}", samples, RATE, seed)
    for path in (argument for argument in sys.argv[1:] if not argument.startswith("--")):
        samples, rate = sf.read(path, dtype="float32", always_2d=True)
        told(Path(path).stem, samples[:, 0], rate, 1)


if __name__ == "__main__":
    main()
