"""The benches run; their figures are read by people, not here. The long ones are not run by themselves."""

import os
import subprocess
import sys
from pathlib import Path

import pytest


def long(*case):
    """One that takes a quarter of a minute and more."""
    return pytest.param(*case, marks=pytest.mark.bench)


BENCH = Path(__file__).parent.parent / "bench"


@pytest.mark.parametrize(
    ("script", "arguments", "words"),
    [
        long("speed.py", ["12"], "survey + find"), long("quality.py", ["--quick"], "all voices"),
        long("floor.py", ["--quick"], "breaths in all"), long("window.py", ["12", "20"], "aim: 150"),
        long("session.py", ["2", "12"], "aim: 8"), long("noise.py", ["--quick"], "second harmonic"),
        long("spots.py", ["--quick"], "pops at true stops"), long("bleed.py", ["--quick"], "peak memory"),
        ("bands.py", ["12"], "treat"), long("line_up.py", ["--quick"], "100 % of those"),
        long("playing.py", ["0.3", "2"], "key to sound"), long("stages.py", ["1"], "slowest part"),
        long("clean.py", ["2", "3"], "cue"), ("history.py", ["300", "20"], "found anew"),
        long("review.py", ["2", "30"], "still there after the review"),
    ],
)  # fmt: skip
def test_bench_runs(script, arguments, words, demo):
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "ISOPHON_BENCH_DEMO": str(demo.parent)}
    result = subprocess.run(
        [sys.executable, str(BENCH / script), *arguments], capture_output=True, text=True, timeout=240, env=environment,
        check=False,
    )  # fmt: skip
    assert result.returncode == 0 and words in result.stdout, result.stderr[-800:]
