"""Connected voices for fitting: descriptions read aloud in thirteen languages, sentences of espeak-ng, sung lines.

The descriptions come from Debian's package tuxpaint-stamps-default (GPL-2+), which is downloaded and unpacked under
the cache; nothing of it is committed. LEFT_OUT are never fitted on: figures are measured on those.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections import defaultdict
from functools import cache
from pathlib import Path

import numpy as np
import soundfile as sf
import soxr
from scipy import signal

from isophon.core.demo.cast import RATE as SUNG_RATE
from isophon.core.demo.cast import Mouth
from isophon.core.demo.score import VERSES
from isophon.core.demo.singer import sing

PACKAGE = "tuxpaint-stamps-default"
FITTED = ("fr", "ru", "ca", "be", "da", "nl", "en", "lt", "spoken fr", "spoken nl", "spoken pl", "spoken sv",
          "sung low", "sung high")  # fmt: skip
LEFT_OUT = ("es", "ro", "el", "bg", "pt_BR", "spoken fi", "sung middle")
SENTENCES = {
    "fr": "Le petit chat dort sur le toit. Trois canards traversent la route. Il pleut, mais la lampe brille encore.",
    "nl": "De kat slaapt op het dak. Drie eenden steken de weg over. Het regent, maar de lamp brandt nog.",
    "pl": "Kot pije ciepłe mleko. Trzy kaczki przechodzą przez drogę. Pada deszcz, a lampa jeszcze świeci.",
    "sv": "Katten sover på taket. Tre ankor går över vägen. Det regnar, men lampan lyser ännu.",
    "fi": "Kissa nukkuu katolla. Kolme ankkaa kulkee tien yli. Sataa, mutta lamppu palaa vielä.",
}
_SPEAKERS = ("m1", "m3", "m7", "f1", "f3", "f5", "croak")
_MOUTHS = {"low": (0.98, -12.0), "middle": (1.06, -5.0), "high": (1.15, 2.0)}
_RATES = (44_100, 48_000, 32_000, 96_000, 48_000, 24_000)
_READ_RATE = 44_100
_LONGEST_S = 40.0


@cache
def files() -> dict[str, list[Path]]:
    """The recordings of each language."""
    folder = Path(os.environ.get("XDG_CACHE_HOME") or tempfile.gettempdir()) / "isophon-fit" / PACKAGE
    if not folder.is_dir():
        folder.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder.parent) as work:
            subprocess.run(["apt-get", "download", "-qq", PACKAGE], cwd=work, check=True, capture_output=True)
            package = next(Path(work).glob("*.deb"))
            subprocess.run(["dpkg-deb", "-x", str(package), f"{work}/unpacked"], check=True)
            (Path(work) / "unpacked").rename(folder)
    found = defaultdict(list)
    for path in sorted(folder.rglob("*_desc*")):
        if path.suffix in (".ogg", ".wav") and sf.info(path).samplerate == _READ_RATE:
            found[path.stem.split("_desc")[1].strip("_") or "en"].append(path)
    made = folder.parent / "made"
    made.mkdir(exist_ok=True)
    spoken = {f"spoken {language}": _spoken(made, language) for language in SENTENCES}
    return dict(found) | spoken | {f"sung {mouth}": _sung(made, mouth) for mouth in _MOUTHS}


def _spoken(folder: Path, language: str) -> list[Path]:
    """Sentences said by espeak-ng, in several voices and at several speeds."""
    paths = []
    for i, sentence in enumerate(SENTENCES[language].split(". ")):
        for j, speaker in enumerate(_SPEAKERS):
            paths.append(folder / f"{language} {speaker} {i}.wav")
            if not paths[-1].exists():
                command = ["espeak-ng", "-v", f"{language}+{speaker}", "-s", str(120 + 17 * ((i + j) % 4))]
                subprocess.run([*command, "-w", str(paths[-1]), sentence], check=True)
    return paths


def _sung(folder: Path, mouth: str) -> list[Path]:
    """Lines of the demo's singer."""
    paths = [folder / f"{mouth} {i}.wav" for i in range(len(VERSES))]
    for i, path in enumerate(paths):
        if not path.exists():
            scale, transpose = _MOUTHS[mouth]
            singer = Mouth(
                scale=scale, transpose=transpose, s_peak=5_500 + 300 * i, room_dbfs=-90, seed=50 + i, clicks=0
            )
            sf.write(path, sing((VERSES[i],), 0.4 + 0.03 * i, 0.5, singer)[0], SUNG_RATE)
    return paths


def take(
    language: str, rng: np.random.Generator, pause_s: tuple[float, float] = (0.15, 0.9)
) -> tuple[np.ndarray, int, list[tuple[float, float]]]:
    """A take of about 40 s, ``(n,)``, its rate, and where in it something is read, in s.

    Microphone (tilt and low end), room, level, noise floor and rate are drawn at random.
    """
    level, floor = rng.uniform(-34, -15), rng.uniform(-76, -52) if rng.random() < 0.85 else -120.0
    at, pieces, spans = 0.3, [], []
    paths = files()[language]
    for i in np.tile(rng.permutation(len(paths)), 3):
        samples = _voice(paths[i])
        if len(samples) < 0.3 * _READ_RATE:
            continue
        length = len(samples) / _READ_RATE
        pieces.append((at, samples * 10 ** (rng.normal(0, 2) / 20)))
        spans.append((at, at + length))
        at += length + rng.uniform(*pause_s)
        if at > _LONGEST_S:
            break
    out = np.zeros(round((at + 0.3) * _READ_RATE))
    for first, samples in pieces:
        place = round(first * _READ_RATE)
        out[place : place + len(samples)] += samples
    out = through_microphone(out, _READ_RATE, rng)
    out *= 10 ** (level / 20) / loudness(out)
    out += 10 ** (floor / 20) * _room_tone(len(out), rng)
    rate = int(rng.choice(_RATES))
    out = out if rate == _READ_RATE else soxr.resample(out, _READ_RATE, rate, "HQ")
    return 0.9 * out / max(0.9, float(np.abs(out).max())), rate, spans


@cache
def _voice(path: Path) -> np.ndarray:
    samples, rate = sf.read(path, always_2d=True)
    samples = samples.mean(axis=1)
    samples = samples if rate == _READ_RATE else soxr.resample(samples, rate, _READ_RATE, "VHQ")
    samples = signal.sosfiltfilt(signal.butter(2, 30, "high", fs=_READ_RATE, output="sos"), samples)
    power = np.square(samples[: len(samples) // 441 * 441]).reshape(-1, 441).mean(axis=1)
    loud = np.flatnonzero(power > 10**-4.0 * power.max()) if len(power) else []
    if not len(loud):
        return samples[:0]
    samples = samples[max(0, (loud[0] - 3) * 441) : (loud[-1] + 6) * 441]
    ramp = np.minimum(1, np.arange(len(samples)) / 800)
    return samples * ramp * ramp[::-1] / (loudness(samples) + 1e-9)


def loudness(samples: np.ndarray) -> float:
    """The RMS of the 20 ms frames within 20 dB of the loudest."""
    power = np.square(samples[: len(samples) // 882 * 882]).reshape(-1, 882).mean(axis=1)
    return float(np.sqrt(power[power > 0.01 * power.max()].mean()))


def through_microphone(samples: np.ndarray, rate: int, rng: np.random.Generator) -> np.ndarray:
    """Samples ``(n,)`` as another microphone hears them: tilted, uneven, two in five in a room."""
    hz = np.geomspace(50, 0.45 * rate, 9)
    tilt = rng.normal(0, 1.2) * np.log2(hz / 1_000) + rng.normal(0, 1.5, len(hz))
    gains = 10 ** (np.array([tilt[0], *tilt, tilt[-1]]) / 20)
    out = signal.oaconvolve(samples, signal.firwin2(1025, [0, *hz, rate / 2], gains, fs=rate), "same")
    if rng.random() < 0.4:
        count = round(rng.uniform(0.08, 0.35) * rate)
        tail = rng.standard_normal(count) * 10 ** (-3 * np.arange(count) / count)
        wet = signal.oaconvolve(out, tail / np.linalg.norm(tail))[: len(out)]
        out = out + 10 ** (rng.uniform(-24, -12) / 20) * wet
    return out


def _room_tone(count: int, rng: np.random.Generator) -> np.ndarray:
    noise = rng.standard_normal(count)
    noise = noise + rng.uniform(0, 4) * signal.lfilter([1], [1, -0.97], noise) * 0.2
    return noise / np.sqrt(np.square(noise).mean())
