"""SessionFacts leaks of a cue in voices: how much goes, what the voice keeps, and what it costs.

Reduction where only the leak sounds; SDR against the voice while it sounds (mir_eval.separation, Vincent et al.
2006), as mixed and cleaned; the time of learning against one ShortTimeFFT round trip; memory.

Usage: .venv/bin/python bench/bleed.py [--quick]
"""

from __future__ import annotations

import resource
import sys
import time
import warnings

import common  # noqa: F401
import numpy as np
import soxr
from mir_eval import separation
from scipy import ndimage, signal

from isophon.core.demo.band import _click, bed, cue
from isophon.core.demo.blemishes import ear_to_microphone
from isophon.core.demo.cast import Mouth
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES, whole_song
from isophon.core.demo.singer import sing
from isophon.core.passes.bleed.leak import Cue, learn_leak
from voices import TEXTS, alsa, speak

RATE = 48_000
RECORDED = ("Front_Center", "Front_Left", "Front_Right", "Rear_Center", "Rear_Left", "Rear_Right", "Side_Left",
            "Side_Right")  # fmt: skip


def sung() -> np.ndarray:
    return sing(VERSES[:12], BEAT_S, BREATH_S, Mouth(room_dbfs=-90))[0].astype(np.float32)


def voice_of(name: str) -> np.ndarray:
    """A voice that never says the same twice: what comes again exactly is a click."""
    pieces = [speak(name, text) for text in TEXTS.values()]
    return soxr.resample(np.concatenate([samples for samples, _, _ in pieces]), pieces[0][1], RATE).astype(np.float32)


def clicks(count: int) -> np.ndarray:
    out = np.zeros(count, np.float32)
    one = _click(1_500.0).astype(np.float32)
    for at in range(0, count - len(one), round(0.5 * RATE)):
        out[at : at + len(one)] = one
    return out


def loud(x: np.ndarray) -> float:
    return float(np.sqrt(np.mean(x[np.abs(x) > 0.05 * np.abs(x).max()] ** 2)))


def through(feed: np.ndarray, seed: int = 3) -> np.ndarray:
    return signal.oaconvolve(feed, ear_to_microphone(seed))[: len(feed)]


def recorded() -> np.ndarray:
    """alsa-utils' recorded woman, with short pauses."""
    pieces = [soxr.resample(samples, rate, RATE) for samples, rate in map(alsa, RECORDED)]
    return np.concatenate([np.pad(piece, (0, RATE // 3)) for piece in pieces]).astype(np.float32)


def row(name: str, voice: np.ndarray, leak: np.ndarray, under_db: float | None, cues: list[Cue]) -> None:
    leak = np.zeros(len(voice)) if under_db is None else leak[: len(voice)]
    if under_db is not None:
        leak = leak * loud(voice) / loud(leak) * 10 ** (-under_db / 20)
    room = np.random.default_rng(0).standard_normal(len(voice)) * loud(voice) * 10 ** (-70 / 20)
    take = (voice + leak + room).astype(np.float32)
    begun = time.perf_counter()
    taken = learn_leak(take[None], RATE, cues, "bench")
    seconds = time.perf_counter() - begun
    out = take - taken.leak[0] - 0.5 * taken.rest[0]
    changed = 10 * np.log10(np.mean((out - take) ** 2) / np.mean(take**2) + 1e-20)
    words = f"{name:34s}"
    if under_db is not None:
        level = np.sqrt(ndimage.uniform_filter1d(voice.astype(float) ** 2, 4_800).clip(0))
        still = level < loud(voice) * 10 ** (-55 / 20)
        less = 10 * np.log10(np.mean(leak[still] ** 2) / np.mean((out - take + leak)[still] ** 2)) if still.any() else 0
        part = slice(len(voice) // 4, len(voice) // 4 + 8 * RATE)
        sdr = [separation.bss_eval_sources(voice[None, part], x[None, part])[0][0] for x in (voice + leak, out - room)]
        words += f"{less:5.1f} dB less alone, SDR {sdr[0]:.1f} → {sdr[1]:.1f} dB, "
    print(f"{words}change {changed:.0f} dB, {seconds:.1f} s for {len(voice) / RATE:.0f} s")


def main(quick: bool) -> None:
    warnings.simplefilter("ignore", FutureWarning)
    feed, music = cue(whole_song()), bed()
    for name, voice in (
        (("sung", sung()),) if quick else (("sung", sung()), ("recorded", recorded()), ("es+f4", voice_of("es+f4")))
    ):
        count = len(voice)
        tune, click = np.resize(feed, count), clicks(count)
        row(f"{name}, click and tune −25 dB", voice, through(tune), 25, [Cue("cue", tune[None], RATE)])
        if quick:
            break
        row(f"{name}, click and tune −40 dB", voice, through(tune), 40, [Cue("cue", tune[None], RATE)])
        row(f"{name}, click −25 dB", voice, through(click), 25, [Cue("cue", click[None], RATE)])
        row(f"{name}, click −40 dB", voice, through(click), 40, [Cue("cue", click[None], RATE)])
        row(f"{name}, click −30 dB, no cue file", voice, through(click), 30, [])
        duet = np.resize(voice_of("de+f2"), count)
        near = duet + through(voice, 7) * loud(duet) / loud(through(voice, 7)) * 10 ** (-25 / 20)
        row(f"{name}, another singer −25 dB", voice, through(duet), 25, [Cue("other", near[None], RATE)])
        other = soxr.resample(tune, RATE, 44_100)
        late = round(0.73 * RATE)
        row(f"{name}, cue at 44.1 kHz, 0.73 s off", np.pad(voice, (late, 0)), np.pad(through(tune), (late, 0)), 30,
            [Cue("cue", other[None], 44_100)])  # fmt: skip
        swing = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(count) / RATE / 20)
        moving = through(tune) * (1 - swing) + (0.8 * through(tune) + 0.3 * through(tune, 5)) * swing
        row(f"{name}, a path that wanders", voice, moving, 30, [Cue("cue", tune[None], RATE)])
        sides = np.stack([np.resize(feed, count) + 0.5 * np.resize(music[0], count),
                          0.7 * np.resize(feed, count) + 0.5 * np.resize(music[1], count)])  # fmt: skip
        row(f"{name}, stereo cue", voice, through(sides[0]) + through(sides[1], 4), 30, [Cue("cue", sides, RATE)])
        slow = np.interp(np.arange(count) / (1 + 50e-6), np.arange(count), tune)
        row(f"{name}, 50 ppm drift", voice, through(slow), 30, [Cue("cue", tune[None], RATE)])
        row(f"{name}, another song", voice, through(tune), 30, [Cue("other", music[:1, :count], RATE)])
        row(f"{name}, no leak", voice, tune, None, [Cue("cue", tune[None], RATE)])
    if not quick:
        voice = np.tile(sung(), 7)[: 240 * RATE]
        count = len(voice)
        sides = np.stack([np.resize(feed, count), np.resize(feed, count) * 0.5 + 0.3 * np.resize(music[1], count)])
        transform = signal.ShortTimeFFT(signal.get_window("hann", 2048), 512, RATE)
        begun = time.perf_counter()
        transform.istft(transform.stft(voice), k1=count)
        trip = time.perf_counter() - begun
        begun = time.perf_counter()
        row("4 minutes, stereo cue", voice, through(sides[0]) + through(sides[1], 4), 30, [Cue("cue", sides, RATE)])
        print(f"learning: {(time.perf_counter() - begun) / trip:.1f} ShortTimeFFT round trips, SDR included")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"peak memory {peak:.0f} MB")


if __name__ == "__main__":
    main("--quick" in sys.argv)
