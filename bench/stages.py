"""What each stage of rendering costs, as multiples of real time on one core, and what is left of that while it plays.

Usage: .venv/bin/python bench/stages.py [PARTS]

The first PARTS (5) of the demo session with all that is found in them treated. Each stage alone, tile by tile in the
player's own chunks; then the slow stages together, in blocks as they are rendered ahead; the rest by tiles on top of
that, as it plays; and the whole part in order, as it is handed over, with and without what was rendered ahead.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import common
import numpy as np

from isophon.core.audio import threads
from isophon.core.audio.files import Recording
from isophon.core.playing.chunks import CHUNK
from isophon.core.reading import path_of
from isophon.core.render import Renderer
from isophon.core.session import file
from isophon.core.session.model import Part
from isophon.core.staging import Plan, by_stage
from isophon.core.work.completing import completed


def by_tiles(renderer: Renderer, plan: Plan) -> float:
    """Seconds that a take takes as it is played."""
    start = time.perf_counter()
    for at in range(0, renderer.samples - CHUNK, CHUNK):
        renderer.cleaned(plan, at, CHUNK)
    return time.perf_counter() - start


def in_order(renderer: Renderer, plan: Plan, recording: Recording) -> float:
    """Seconds that a take takes as it is handed over."""
    start = time.perf_counter()
    for _ in renderer.blocks(plan, recording.blocks()):
        pass
    return time.perf_counter() - start


def stages(part: Part, recording: Recording) -> float:
    """Print what a part costs; the multiple of real time of what is left while it plays."""
    kept: dict[str, np.ndarray] = {}

    def fresh() -> Renderer:
        return Renderer(recording.read, recording.sample_rate, recording.frames, head=kept.get)

    print(f"{part.name}, {recording.duration:.0f} s")
    for stage, mine in by_stage(part.plan):
        alone = recording.duration / by_tiles(fresh(), mine)
        slow = "  rendered ahead" if stage.slow else ""
        print(f"  {stage.treats[0].__name__:12s} {len(mine):4d}  {alone:7.0f} × real time{slow}")
    whole = in_order(fresh(), part.plan, recording)
    renderer = fresh()
    start = time.perf_counter()
    made = {name: renderer.head_block(part.plan, i) for i, name in renderer.head_names(part.plan).items()}
    ahead = time.perf_counter() - start
    kept |= made
    left, again = by_tiles(fresh(), part.plan), in_order(fresh(), part.plan, recording)
    rows = {"slow stages": ahead, "left to be played": left, "handed over": again, "without that": whole}
    print("  " + ", ".join(f"{name} {recording.duration / took:.0f} ×" for name, took in rows.items() if took > 1e-4))
    return recording.duration / left


def main() -> None:
    parts = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    threads.use(1)
    with tempfile.TemporaryDirectory() as folder:
        session = file.load(common.demo_session(Path(folder)))
        slowest = np.inf
        for part in session.parts[:parts]:
            with Recording(path_of(part.source.path)) as recording:
                found, _ = completed(session, part, recording, lambda _step, _fraction: None)
                slowest = min(slowest, stages(found, recording))
    print(f"slowest part while it plays: {slowest:.0f} × real time on one core  (aim: 50)")


if __name__ == "__main__":
    main()
