"""Survey, find and treat, as multiples of one scipy ShortTimeFFT round trip of the same signal in the same run.

Usage: .venv/bin/python bench/speed.py [SECONDS]
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
from pathlib import Path

import common
import numpy as np
from scipy import signal

from conftest import cuts
from isophon.core.audio.files import Recording
from isophon.core.finding import find_all, survey_recording
from isophon.core.passes.ess import treat
from isophon.core.passes.ess.settings import EssSettings, usual_standout
from isophon.core.render import Renderer
from isophon.core.session.items import Source
from isophon.core.session.model import Part


def main(seconds: float) -> None:
    runs = 3 if seconds > 60 else 1
    with tempfile.TemporaryDirectory() as folder:
        path = common.long_take(Path(folder) / "take.wav", seconds)
        command = [sys.executable, "-m", "isophon", "clean", str(path), "--out", folder, "--force", "--quiet"]
        subprocess.run(command, check=True, env={"PYTHONPATH": str(common.ROOT / "src")})
        peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        recording = Recording(path)
        samples = recording.read(0, recording.frames)[0]
        transform = signal.ShortTimeFFT(signal.get_window("hann", 2048), 512, common.RATE)
        trip = common.median_time(lambda: transform.istft(transform.stft(samples), k1=len(samples)), runs)
        survey_time = common.median_time(lambda: survey_recording(recording), runs)
        found = survey_recording(recording)
        find_time = common.median_time(lambda: find_all(recording, found), runs)
        everything = find_all(recording, found)
        marks = tuple(m for m in everything.marks if m.kind == "ess")
        source = Source(str(path), recording.sample_rate, 1, recording.frames)
        part = Part("p", "p", source, marks=everything.marks, measured=everything.measured)
        plan = cuts(marks, EssSettings(), usual_standout(marks), common.RATE)
        plan_all = cuts(marks, EssSettings(ceiling_db=-24), None, common.RATE)

        def render(what: treat.EssCut) -> None:
            renderer = Renderer(recording.read, common.RATE, recording.frames)
            for _ in renderer.blocks(what, recording.blocks()):
                pass

        read_time = common.median_time(lambda: [np.abs(b[0, 0]) for b in recording.blocks()], runs)
        print(f"{seconds:.0f} s mono 48 kHz, {len(marks)} esses, {len(plan)} over the ceiling")
        print(f"round trip 2048/512     1.00  ({trip:.2f} s)")
        print(f"survey                  {survey_time / trip:.3f}")
        print(f"find                    {find_time / trip:.3f}")
        print(f"survey + find           {(survey_time + find_time) / trip:.3f}  (aim: 1.5)")
        print(f"treat                   {common.median_time(lambda: render(plan), runs) / trip:.3f}  (aim: 0.3)")
        print(f"treat, every ess        {common.median_time(lambda: render(plan_all), runs) / trip:.3f}")
        print(f"low cut, gaps, breaths  {common.median_time(lambda: render(part.plan), runs) / trip:.3f}  (esses too)")
        print(f"reading alone           {read_time / trip:.3f}")
        print(f"peak memory of `clean`  {peak:.0f} MB  (aim: 500)")


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 240.0)
