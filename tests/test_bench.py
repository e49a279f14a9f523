"""The benches run; their figures are read by people, not here."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

BENCH = Path(__file__).parent.parent / "bench"


@pytest.mark.parametrize(
    ("script", "arguments", "words"),
    [
        ("speed.py", ["12"], "survey + find"), ("quality.py", ["--quick"], "all voices"),
        ("floor.py", ["--quick"], "breaths in all"), ("window.py", ["12", "20"], "aim: 150"),
        ("session.py", ["2", "12"], "aim: 8"), ("noise.py", ["--quick"], "second harmonic"),
        ("spots.py", ["--quick"], "pops at true stops"), ("bleed.py", ["--quick"], "peak memory"),
        ("bands.py", ["12"], "treat"), ("line_up.py", ["--quick"], "100 % of those"),
        ("playing.py", ["0.3", "2"], "key to sound"), ("stages.py", ["1"], "slowest part"),
        ("clean.py", ["2", "3"], "cue"), ("history.py", ["300", "20"], "found anew"),
        ("review.py", ["2", "30"], "still there after the review"),
    ],
)  # fmt: skip
def test_bench_runs(script, arguments, words, demo):
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "ISOPHON_BENCH_DEMO": str(demo.parent)}
    result = subprocess.run(
        [sys.executable, str(BENCH / script), *arguments], capture_output=True, text=True, timeout=240, env=environment,
        check=False,
    )  # fmt: skip
    assert result.returncode == 0 and words in result.stdout, result.stderr[-800:]
