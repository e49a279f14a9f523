"""Bands and Spots: what finding and treating cost, against one ShortTimeFFT round trip of the same take.

Usage: .venv/bin/python bench/bands.py [SECONDS]
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import common
from scipy import signal

from isophon.core.audio.bell import Bell
from isophon.core.audio.files import Recording
from isophon.core.finding import survey_recording
from isophon.core.passes import BY_NAME
from isophon.core.passes.context import FinderContext
from isophon.core.passes.filters import BandFilter
from isophon.core.passes.spot.treat import SpotCut
from isophon.core.render import Renderer


def main(seconds: float) -> None:
    with tempfile.TemporaryDirectory() as folder, Recording(common.long_take(Path(folder) / "t.wav", seconds)) as take:
        whole = take.read(0, take.frames)[0]
        transform = signal.ShortTimeFFT(signal.get_window("hann", 2048), 512, take.sample_rate)
        trip = common.median_time(lambda: transform.istft(transform.stft(whole), k1=len(whole)), 3)
        surveyed = survey_recording(take)

        def find(kind: str) -> None:
            ears = FinderContext(take, surveyed, BY_NAME)
            _ = ears.low  # other finders need it too
            ears.marks(kind)

        low = common.median_time(lambda: FinderContext(take, surveyed, BY_NAME).low, 3)
        bells = tuple(Bell(hz, 8.0, -4.0) for hz in (310.0, 900.0, 2_700.0))
        boxes = tuple(
            SpotCut(at, at + 24_000, (2_400, 2_400), 1_000.0, 3_000.0, -6.0) for at in range(0, take.frames, 240_000)
        )

        def render(plan) -> None:
            for _ in Renderer(take.read, take.sample_rate, take.frames).blocks(plan, take.blocks()):
                pass

        reading = common.median_time(lambda: render(()), 3)
        print(f"{seconds:.0f} s mono, round trip 2048/512 1.00 ({trip:.2f} s)")
        for kind in ("band", "spot"):
            print(f"find {kind}s   {(common.median_time(lambda k=kind: find(k), 3) - low) / trip:.3f}  (aim: 0.5)")
        for name, plan in (("three bands", (BandFilter(0, take.frames, bells),)), (f"{len(boxes)} boxes", boxes)):
            print(f"treat {name}  {(common.median_time(lambda p=plan: render(p), 3) - reading) / trip:.3f}  (aim: 0.2)")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 240.0)
