"""Figures on recorded voices with known damage, as a table beside what is wanted.

Usage: .venv/bin/python bench/real_voices.py MEASURE

MEASURE is a program that is called with a kind (``find-ess``, ``clean-hum``) in the project's root and prints, last,
a line ``KIND: …`` with its figures; where it is not there, nothing is measured. The table of the last run is in
real_voices.md.
"""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
TABLE = Path(__file__).with_suffix(".md")

# kind: (what is told and what its line calls it, what is wanted)
_OF_FINDING = ("F1", "F1"), ("false a minute", "false"), ("worst speaker", "worst speaker")
_DOWN, _SDR = ("dB down in pauses", "down in pauses"), ("SDR of the voice, dB", "SDR of the voice")
FIGURES: dict[str, tuple[tuple[tuple[str, str], ...], tuple[str, ...]]] = {
    "find-ess": (_OF_FINDING, ("≥ .975", "≤ .6", "≥ .90")),
    "find-pop": (_OF_FINDING, ("≥ .97", "≤ .5", "≥ .88")),
    "find-tick": (_OF_FINDING, ("≥ .88", "≤ 3", "≥ .78")),
    "find-breath": (_OF_FINDING[:1], ("≥ .97",)),
    "find-gap": ((_OF_FINDING[0], ("sound covered, s a minute", "voice covered")), ("≥ .99", "0")),
    "clean-bleed": (
        (("alone, dB down", "bleed alone down"), ("under the voice, dB", "SDR up under the voice")),
        ("≥ 30", "≥ 22"),
    ),
    "clean-hum": ((_DOWN, _SDR), ("≥ 36", "≥ 38")),
    "clean-hiss": ((_DOWN, _SDR), ("15", "")),
    "clean-pop": (
        (("thump down, dB", "thump down"), ("worst, dB", "worst"), ("over 300 Hz, SDR, dB", "above 300 Hz, SDR")),
        ("≥ 17", "≥ 6", "≥ 33"),
    ),
    "clean-ess": (
        (("raised ones: error, dB", "boosted: error"), ("others: error, dB", "untouched: error")),
        ("≤ 3.4", "≤ 1.2"),
    ),
    "clean-tick": ((("over damaged samples, dB", "SNR up"), ("in the voice, dB", "in the voice")), ("≥ 22", "≥ 19")),
    "clean-ring": (
        (("at the ring: error, dB", "at the ring: error"), ("elsewhere, dB", "elsewhere")),
        ("≤ 3.5", "≤ .6"),
    ),
}


def figures_of(measure: Path, kind: str) -> str:
    """The last line of a kind."""
    run = subprocess.run([str(measure), kind], cwd=ROOT, capture_output=True, text=True, check=True)
    return next(line for line in reversed(run.stdout.splitlines()) if line.startswith(f"{kind}:"))


def value_of(line: str, name: str) -> str:
    """A figure of a line: the number after its name."""
    found = re.search(rf"\b{re.escape(name)}(?:\s+[a-z]{{2,5}})?\s+(-?\d+(?:\.\d+)?)", line)
    return found[1] if found else "?"


def main(measure: Path) -> None:
    if not measure.exists():
        print(f"{measure.name}: not there; nothing was measured")
        return
    rows = ["# Figures on recorded voices", "", "Made by `bench/real_voices.py`.", "",
            "| kind | figure | measured | wanted |", "|---|---|---|---|"]  # fmt: skip
    for kind, (figures, aims) in FIGURES.items():
        line = figures_of(measure, kind)
        for (words, name), wanted in zip(figures, aims, strict=True):
            rows.append(f"| {kind} | {words} | {value_of(line, name)} | {wanted} |")
            print(rows[-1], flush=True)
    TABLE.write_text("\n".join(rows) + "\n", encoding="utf-8")


if __name__ == "__main__":
    if len(sys.argv) != 2:
        sys.exit(__doc__)
    main(Path(sys.argv[1]).resolve())
