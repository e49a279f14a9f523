"""Voices to test against that nobody here made: espeak-ng with its phoneme events, alsa-utils' recordings.

What espeak-ng says differs a little from run to run; it was asked once, and what it said lies in ``spoken/`` with its
events. What is not there is spoken now, and kept there if ISOPHON_KEEP_VOICES is set.
"""

from __future__ import annotations

import ctypes
import ctypes.util
import functools
import hashlib
import json
import os
from pathlib import Path

import numpy as np
import soundfile as sf
from scipy import ndimage, signal

from isophon.core.audio.dynamics import smoothed
from isophon.core.passes.band.loud import sounding
from isophon.core.survey import survey

ALSA = Path("/usr/share/sounds/alsa")
KEPT = Path(__file__).parent / "spoken"
Spoken = tuple[np.ndarray, int, list[tuple[float, float, str]]]

TEXTS = {
    "en": "She sells six chess sets. The thief fell off the heavy fence. Which roses has she chosen? "
    "He who hid the half loaf saw seven foxes pass. Take the kit and pack two cups.",
    "de": "Das Schiff sinkt schnell. Zehn zahme Ziegen ziehen Zucker zum Zoo. Sechs Sachsen sitzen sicher. "
    "Fünf frische Hefte hat Herr Hoffmann.",
    "es": "Sesenta gatos salen solos. Muchos chicos suben a la casa. El café fue fuerte. Tapa, tope, kilo.",
    "it": "Sette sassi sono stesi. La rosa si posa sul sasso. Il fuoco fa fumo e fuffa. Tutto patata.",
    "pt-br": "O sossego passa na casa. Seis sapos sobem. A chave e o xale. Faca, fofo, fumo.",
}
VOICES = {
    "en-us": "en", "en-us+f3": "en", "en-gb-scotland+m3": "en", "de": "de", "de+f2": "de",
    "es": "es", "es+f4": "es", "it+f1": "it", "pt-br+f5": "pt-br", "it+m4": "it",
}  # fmt: skip
_SIBILANTS = {"s", "S", "z", "Z", "tS", "dZ", "ts", "dz", "ss"}
_EITHER = {"C", "x", "T", "D", "t2", "ç"}  # neither a miss nor a false mark is counted on these


def compressed(samples: np.ndarray, rate: int, ratio: float = 4.0) -> np.ndarray:
    """A voice ``(n,)`` as a compressor on the way in leaves it: what comes within 4 dB of its loud is squeezed.

    Attack 5 ms, release 120 ms (common practice); its smoothing is tested against the published one elsewhere.
    """
    tick = max(1, rate // 4_000)
    level = 20 * np.log10(np.abs(samples[: len(samples) // tick * tick]).reshape(-1, tick).max(axis=1) + 1e-7)
    slow = 20 * np.log10(np.sqrt(ndimage.uniform_filter1d(samples.astype(float) ** 2, round(0.03 * rate))) + 1e-7)
    wanted = np.maximum(0, level - np.percentile(slow, 90) + 4) * (1 - 1 / ratio)
    off = smoothed(wanted, tick / rate, 0.005, 0.12, 0.0)
    at = np.arange(len(samples))
    return (samples * 10 ** (-np.interp(at, (np.arange(len(off)) + 0.5) * tick, off) / 20)).astype(np.float32)


class _Event(ctypes.Structure):
    _fields_ = [
        ("type", ctypes.c_int), ("id", ctypes.c_uint), ("text", ctypes.c_int), ("length", ctypes.c_int),
        ("ms", ctypes.c_int), ("sample", ctypes.c_int), ("user", ctypes.c_void_p), ("name", ctypes.c_char * 8),
    ]  # fmt: skip


@functools.cache
def _library() -> tuple[ctypes.CDLL, int]:
    library = ctypes.CDLL(ctypes.util.find_library("espeak-ng") or "libespeak-ng.so.1")
    return library, library.espeak_Initialize(2, 0, None, 1)


@functools.cache
def speak(voice: str, text: str) -> Spoken:
    """Samples float32 ``(n,)``, rate, and (start, end, phoneme) in seconds."""
    name = f"{voice}-{hashlib.sha1(text.encode()).hexdigest()[:8]}"
    sound, events = KEPT / f"{name}.flac", KEPT / f"{name}.json"
    if not sound.exists():
        samples, rate, phonemes = speak_now(voice, text)
        if not os.environ.get("ISOPHON_KEEP_VOICES"):
            return samples, rate, phonemes
        KEPT.mkdir(exist_ok=True)
        sf.write(sound, samples, rate, subtype="PCM_16")
        rows = ",\n ".join(json.dumps(row, ensure_ascii=False) for row in phonemes)
        events.write_text(f"[{rows}]\n", encoding="utf-8")
    samples, rate = sf.read(sound, dtype="float32")
    return samples, rate, [(a, b, phoneme) for a, b, phoneme in json.loads(events.read_text(encoding="utf-8"))]


def speak_now(voice: str, text: str) -> Spoken:
    """The same, said by espeak-ng now."""
    library, rate = _library()
    pieces: list[np.ndarray] = []
    starts: list[tuple[float, str]] = []
    callback_type = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.POINTER(ctypes.c_short), ctypes.c_int, ctypes.POINTER(_Event))

    def gather(wave, count, events):
        if wave and count > 0:
            pieces.append(np.ctypeslib.as_array(wave, (count,)).copy())
        i = 0
        while events[i].type != 0:
            if events[i].type == 7:
                starts.append((events[i].ms / 1000, events[i].name.decode("utf8", "replace")))
            i += 1
        return 0

    callback = callback_type(gather)
    library.espeak_SetSynthCallback(callback)
    assert library.espeak_SetVoiceByName(voice.encode()) == 0, voice
    library.espeak_SetParameter(1, 150, 0)
    data = text.encode()
    library.espeak_Synth(data, len(data) + 1, 0, 0, 0, 1, None, None)
    library.espeak_Synchronize()
    samples = np.concatenate(pieces).astype(np.float32) / 32768
    ends = [start for start, _ in starts[1:]] + [len(samples) / rate]
    return samples, rate, [(a, b, name) for (a, name), b in zip(starts, ends, strict=True)]


def spoken(voice: str) -> Spoken:
    """The voice's text."""
    return speak(voice, TEXTS[VOICES[voice]])


def sibilants(phonemes: list[tuple[float, float, str]]) -> list[tuple[float, float]]:
    """The sibilants among phonemes; those that touch are one, those under 40 ms (closures) left out."""
    joined: list[list[float]] = []
    for start, end, name in phonemes:
        if name.rstrip(":;.'") in _SIBILANTS:
            if joined and start - joined[-1][1] < 0.03:
                joined[-1][1] = end
            else:
                joined.append([start, end])
    return [(a, b) for a, b in joined if b - a >= 0.04]


def undecided(phonemes: list[tuple[float, float, str]]) -> list[tuple[float, float]]:
    """Sounds between a sibilant and another: German ich, Th."""
    return [(a, b) for a, b, name in phonemes if name.rstrip(":;.'") in _EITHER]


def score(found: list[tuple[float, float]], truth: list[tuple[float, float]], either=()) -> tuple[int, int, int]:
    """Hits, false marks and misses; a hit shares 40 % of the shorter of both."""

    def same(one, other):
        both = min(one[1], other[1]) - max(one[0], other[0])
        return both > 0.4 * min(one[1] - one[0], other[1] - other[0])

    hits = sum(any(same(t, f) for f in found) for t in truth)
    false = sum(not any(same(f, t) for t in [*truth, *either]) for f in found)
    return hits, false, len(truth) - hits


def alsa(name: str) -> tuple[np.ndarray, int]:
    """One of alsa-utils' recordings, float32 ``(n,)`` and its rate."""
    samples, rate = sf.read(ALSA / f"{name}.wav", dtype="float32")
    return samples, rate


def cookbook(f0: float, q: float, db: float, rate: int) -> np.ndarray:
    """The peaking filter of the W3C Audio EQ Cookbook, one second-order section."""
    a, w = 10 ** (db / 40), 2 * np.pi * f0 / rate
    al = np.sin(w) / (2 * q)
    b = np.array([1 + al * a, -2 * np.cos(w), 1 - al * a, 1 + al / a, -2 * np.cos(w), 1 - al / a])
    return (b / b[3])[None]


def with_loud_ring(name: str, hz: float, q: float, gain_db: float):
    """Words of unlike loudness, the loudest third through a resonance; the same without; and which words."""
    samples, rate, _ = spoken(name)
    samples = samples.astype(np.float64)
    spans = sounding(survey([samples[None].astype(np.float32)], rate, len(samples)))
    rng = np.random.default_rng(2)
    take = 1e-5 * rng.standard_normal(len(samples))
    for start, end in spans:
        word = slice(round(start * rate), round(end * rate))
        take[word] += samples[word] * 10 ** (rng.normal(0, 5) / 20)
    levels = [np.mean(take[round(a * rate) : round(b * rate)] ** 2) for a, b in spans]
    loud = [span for span, level in zip(spans, levels, strict=True) if level >= np.quantile(levels, 2 / 3)]
    rung = take.copy()
    through = signal.sosfilt(cookbook(hz, q, gain_db, rate), take)
    for start, end in loud:
        word = slice(round(start * rate), round(end * rate))
        rung[word] = through[word]
    return take, rung, rate, spans, loud
