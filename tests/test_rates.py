"""Every sample rate goes through every kind: a voice with its lead, a cue at another rate, and boxes drawn by hand."""

import json

import pytest
import soundfile as sf
import soxr

from conftest import LONG, write
from isophon.cli import main
from isophon.core.passes import NAMES

# common practice, telephone and early digital rates, and those pulled up or down by 0.1 % for film
RATES = [8_000, 9_600, 22_050, 44_100, 47_952, 96_000, 192_000]
MORE = [11_025, 12_000, 16_000, 18_900, 24_000, 24_024, 32_000, 37_800, 44_056, 44_144, 48_000, 48_048, 50_000, 64_000,
        88_200, 128_000, 176_400]  # fmt: skip


@pytest.mark.parametrize("rate", [*RATES, *(MORE if LONG > 1 else ())])
def test_every_rate_goes_through_every_kind(demo, tmp_path, rate):
    def part_of(name: str, source: str, at: float, to: int):
        samples, own = sf.read(demo.parent / f"{source}.wav", dtype="float32", always_2d=True)
        cut = soxr.resample(samples[round(at * own) : round((at + 6) * own)], own, to)
        return write(tmp_path / f"{name}.wav", cut.T, to, "FLOAT")

    take, lead = part_of("take", "Lead", 8.06, rate), part_of("lead", "Lead", 8.0, rate)
    cue = part_of("cue", "Cue", 8.0, 48_000)
    boxes = tmp_path / "boxes.tsv"
    boxes.write_text("1.0\t1.4\t500\t3000\t-6\n")
    call = [str(take), "--role", "double", "--lead", str(lead), "--cue", str(cue), "--spots", str(boxes), "--quiet"]
    assert main(["find", *call, "--json"]) == 0
    assert main(["clean", *call, "--out", str(tmp_path / "out"), "--depth", "32f"]) == 0
    told = json.loads((tmp_path / "out" / "report.json").read_text())["files"][0]
    assert set(NAMES) - {"carry"} <= set(told["kinds"])
    after = sf.info(tmp_path / "out" / "take.clean.wav")
    assert (after.samplerate, after.frames) == (rate, sf.info(take).frames)
