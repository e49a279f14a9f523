"""How well esses are found and tamed: per source, on voices from outside.

Finding: espeak-ng voices with phoneme events as truth, alsa-utils' recordings by ear.
Taming: sibilants raised by 6 and 10 dB over their band, cleaned, against the untouched original.

Usage: .venv/bin/python bench/quality.py [--quick]
"""

from __future__ import annotations

import sys

import common  # noqa: F401
import mir_eval
import numpy as np
from scipy import signal

from conftest import cuts, look, reader
from isophon.core.passes.ess.settings import EssSettings, usual_standout
from isophon.core.render import Renderer
from voices import ALSA, VOICES, alsa, score, sibilants, spoken, undecided


def finding(voices: list[str]) -> None:
    print("finding            marks  hits false miss   P     R     F1   onset F (mir_eval, 50 ms)")
    total = np.zeros(3)
    for voice in voices:
        samples, rate, phonemes = spoken(voice)
        _, marks = look(samples, rate)
        truth, either = sibilants(phonemes), undecided(phonemes)
        hits, false, misses = score([(m.start, m.end) for m in marks], truth, either)
        total += hits, false, misses
        onset = mir_eval.onset.f_measure(np.array([a for a, _ in truth]), np.array([m.start for m in marks]), 0.05)[0]
        print(
            f"{voice:18s} {len(marks):5d} {hits:5d} {false:5d} {misses:4d}  {_rates(hits, false, misses)}   {onset:.2f}"
        )
    print(f"{'all voices':18s} {'':5s} {total[0]:5.0f} {total[1]:5.0f} {total[2]:4.0f}  {_rates(*total)}")
    expected = {"Front_Center": 1, "Rear_Center": 1, "Side_Left": 1, "Side_Right": 1}
    for path in sorted(ALSA.glob("[FRS]*.wav")):
        count = len(look(*alsa(path.stem))[1])
        print(f"{path.stem:18s} {count:5d}  (spoken: {expected.get(path.stem, 0)})")


def taming(sources: list[tuple[str, np.ndarray, int]]) -> None:
    print("taming: mean error of the 4–10 kHz level in the sibilants against the untouched original, dB")
    print("source             as is   +6 single  +6 all   +10 single  +10 all   nulls away from marks")
    for name, samples, rate in sources:
        _, marks = look(samples, rate)
        if not marks:
            continue
        row = [_error(samples, samples, rate, marks)]
        nulls = []
        for up in (6, 10):
            single = []
            for mark in marks[:8]:
                raised = _raise(samples, rate, [mark], up)
                single.append(_error(samples, raised, rate, [mark], nulls))
            row += [np.mean(single), _error(samples, _raise(samples, rate, marks, up), rate, marks, nulls)]
        print(f"{name:18s} {row[0]:5.1f}   {row[1]:6.1f}  {row[2]:8.1f}   {row[3]:8.1f}  {row[4]:8.1f}   {all(nulls)}")


def _rates(hits: float, false: float, misses: float) -> str:
    return f"{hits / (hits + false):.2f}  {hits / (hits + misses):.2f}  {2 * hits / (2 * hits + false + misses):.3f}"


def _raise(samples: np.ndarray, rate: int, marks, up: float) -> np.ndarray:
    weights = np.zeros(len(samples))
    for mark in marks:
        weights[int(mark.start * rate) : int(mark.end * rate)] = 1
    edge = np.hanning(int(0.01 * rate))
    weights = np.convolve(weights, edge / edge.sum(), "same")
    band = signal.firwin(255, [4_000, min(10_000, 0.45 * rate)], pass_zero=False, fs=rate)
    return samples + signal.fftconvolve(samples, band, "same") * weights * (10 ** (up / 20) - 1)


def _error(original: np.ndarray, heard: np.ndarray, rate: int, marks, nulls: list[bool] | None = None) -> float:
    heard = heard.astype(np.float32)
    _, found = look(heard, rate)
    plan = cuts(found, EssSettings(), usual_standout(found), rate)
    clean = Renderer(reader(heard), rate, len(heard)).cleaned(plan, 0, len(heard))[0]
    away = np.ones(len(heard), bool)
    for t in plan:
        away[max(0, t.first) : t.last] = False
    if nulls is not None:
        nulls.append(bool(np.array_equal(clean[away], heard[away])))
    return float(np.mean([abs(_level(clean, rate, m) - _level(original, rate, m)) for m in marks]))


def _level(samples: np.ndarray, rate: int, mark) -> float:
    band = signal.butter(4, [4_000, min(10_000, 0.45 * rate)], "band", fs=rate, output="sos")
    span = signal.sosfiltfilt(band, samples)[int(mark.start * rate) : int(mark.end * rate)]
    return 10 * np.log10(np.mean(np.square(span)) + 1e-20)


def main(quick: bool) -> None:
    voices = ["en-us", "de"] if quick else list(VOICES)
    finding(voices)
    recorded = ["Side_Left"] if quick else sorted(p.stem for p in ALSA.glob("[FRS]*.wav"))
    sources = [(name, *alsa(name)) for name in recorded]
    sources += [(voice, *spoken(voice)[:2]) for voice in (voices[:1] if quick else voices)]
    taming(sources)


if __name__ == "__main__":
    main("--quick" in sys.argv)
