"""Hum and hiss on voices whose clean sound is known: what goes, and what the voice loses.

Hiss at 20 and 30 dB under the voice: how much less of it in the pauses, and how
near the voice is to the clean one, as segmental SNR (Hansen & Pellom 1998, held
to −10…35 dB) and log-spectral distance above 3 kHz, against doing nothing and
against plain spectral subtraction (Boll 1979). Hum: what is left of each partial,
and of a sung note that crosses one.

Usage: .venv/bin/python bench/noise.py [--quick]
"""

from __future__ import annotations

import sys

import common  # noqa: F401
import numpy as np
from scipy import signal

from conftest import Written, reader
from isophon.core.audio.hum import hum_of
from isophon.core.audio.lowrate import LowRate
from isophon.core.demo.blemishes import _hum
from isophon.core.demo.cast import Mouth
from isophon.core.demo.score import BEAT_S, BREATH_S, VERSES
from isophon.core.demo.singer import sing
from isophon.core.finding import find_all, survey_recording
from isophon.core.passes.hiss import treat as hiss
from isophon.core.passes.hum import find as hum_find
from voices import VOICES, spoken

MOUTHS = {
    "demo": Mouth(room_dbfs=-110), "soprano": Mouth(1.22, 5, 7_600, room_dbfs=-110, seed=2),
    "bass": Mouth(0.95, -14, 4_800, room_dbfs=-110, seed=3),
}  # fmt: skip
_FRAME_S = 0.02


def sources(quick: bool):
    for name, mouth in list(MOUTHS.items())[: 1 if quick else None]:
        samples, _ = sing(VERSES[: 2 if quick else 4], BEAT_S, BREATH_S, mouth)
        yield name, samples.astype(np.float32), 48_000
    for voice in list(VOICES)[: 1 if quick else None]:
        samples, rate, _ = spoken(voice)
        yield voice, samples, rate


def frames_of(x: np.ndarray, rate: int) -> np.ndarray:
    size = round(_FRAME_S * rate)
    return x[: len(x) // size * size].reshape(-1, size)


def segmental_snr(clean: np.ndarray, other: np.ndarray, rate: int, voiced: np.ndarray) -> float:
    signal_power = np.square(frames_of(clean, rate)[voiced]).sum(axis=1)
    noise_power = np.square(frames_of(clean - other, rate)[voiced]).sum(axis=1)
    return float(np.clip(10 * np.log10((signal_power + 1e-12) / (noise_power + 1e-12)), -10, 35).mean())


def spectral_distance(clean: np.ndarray, other: np.ndarray, rate: int, voiced: np.ndarray) -> float:
    """Root mean square difference of log spectra above 3 kHz, dB; levels under −100 dBFS count as that."""
    low = round(3_000 * _FRAME_S)
    window = signal.get_window("hann", round(_FRAME_S * rate))

    def levels(x: np.ndarray) -> np.ndarray:
        power = np.square(np.abs(np.fft.rfft(frames_of(x, rate)[voiced] * window, axis=1)[:, low:])) / window.sum() ** 2
        return 10 * np.log10(power + 1e-10)

    return float(np.sqrt(np.square(levels(clean) - levels(other)).mean(axis=1)).mean())


def subtraction(noisy: np.ndarray, noise: np.ndarray, rate: int, low_hz: float) -> np.ndarray:
    """Plain power spectral subtraction above a frequency (Boll 1979), to compare with."""
    transform = signal.ShortTimeFFT(np.sqrt(signal.get_window("hann", 1_024)), 256, rate)
    spectra = transform.stft(noisy)
    power = np.square(np.abs(spectra))
    floor = np.square(np.abs(transform.stft(noise))).mean(axis=1, keepdims=True)
    gain = np.sqrt(np.maximum(1 - floor / (power + 1e-20), 0.0))
    gain[transform.f < low_hz] = 1
    return transform.istft(spectra * gain, k1=len(noisy))


def hiss_row(name: str, clean: np.ndarray, rate: int, under_db: float) -> None:
    rng = np.random.default_rng(5)
    level = np.sqrt(np.mean(clean[np.abs(clean) > 0.05 * np.abs(clean).max()] ** 2))
    noise = (rng.standard_normal(len(clean)) * level * 10 ** (-under_db / 20)).astype(np.float32)
    noisy = clean + noise
    recording = Written(noisy, rate)
    found = find_all(recording, survey_recording(recording))
    loud = 10 * np.log10(np.square(frames_of(clean, rate)).mean(axis=1) + 1e-12)
    voiced, still = loud > 20 * np.log10(level) - 30, loud < 20 * np.log10(level) - 75
    high = signal.butter(4, 6_500, "high", fs=rate, output="sos")
    print(f"{name:20s} {under_db:3.0f} dB", end="")
    outs = {"nothing": noisy, "subtraction": subtraction(noisy, noise, rate, 5_000)}
    for amount in (-6.0, -12.0):
        cut = hiss.HissCut(0, len(clean), found.measured.noise, amount, 5_000.0, 0.0, rate)
        outs[f"{amount:.0f} dB"] = hiss.apply(reader(noisy), 0, len(clean), cut)[0]
    rest = {k: np.square(frames_of(signal.sosfilt(high, x), rate))[still].mean() for k, x in outs.items()}
    for what, out in outs.items():
        less = 10 * np.log10(rest[what] / rest["nothing"])
        print(f"  {what}: {less:5.1f} dB, {segmental_snr(clean, out, rate, voiced):5.2f}, "
              f"{spectral_distance(clean, out, rate, voiced):5.2f}", end="")  # fmt: skip
    print()


def hum_row(name: str, clean: np.ndarray, rate: int, level_db: float) -> None:
    hz, rng = 49.96, np.random.default_rng(2)
    whole = _hum(len(clean) * 48_000 // rate + 48_000, hz, rng)
    mains = signal.resample_poly(whole, rate, 48_000)[: len(clean)] if rate != 48_000 else whole[: len(clean)]
    mains = (mains * 10 ** (level_db / 20)).astype(np.float32)
    found = hum_find.find(LowRate(reader(clean + mains), rate, len(clean), 1, 12_000), rate)
    if found is None:
        print(f"{name:20s} {level_db:.0f} dBFS: none found")
        return
    left = mains - hum_of(found, 0, len(clean))[0]
    spectrum, before = (np.square(np.abs(np.fft.rfft(x * np.hanning(len(x))))) for x in (left, mains))
    freqs = np.fft.rfftfreq(len(clean), 1 / rate)
    lines = {k: np.abs(freqs - k * hz) < 1.5 for k in (1, 2, 3, 5, 9, 15, 27, 39)}
    rows = "  ".join(f"{k}: {10 * np.log10(spectrum[m].sum() / before[m].sum()):.0f}" for k, m in lines.items())
    print(f"{name:20s} {level_db:.0f} dBFS: all {10 * np.log10(np.mean(left**2) / np.mean(mains**2)):.1f} dB;  {rows}")


def crossing() -> None:
    """A note that is sung on the second harmonic for two seconds of ten: what it loses."""
    rate, hz = 48_000, 50.0
    time = np.arange(10 * rate) / rate
    shape = np.clip(np.minimum(time - 4, 6 - time) / 0.05, 0, 1)
    note = (0.1 * shape * np.sin(2 * np.pi * 2 * hz * time)).astype(np.float32)
    mains = (0.003 * sum(np.sin(2 * np.pi * k * hz * time + k) / k for k in range(1, 9))).astype(np.float32)
    both = (note + mains + np.random.default_rng(1).standard_normal(len(note)) * 1e-5).astype(np.float32)
    found = hum_find.find(LowRate(reader(both), rate, len(both), 1, 12_000), rate)
    out = both - hum_of(found, 0, len(both))[0]
    inside = shape > 0.5
    lost = 10 * np.log10(np.mean(out[inside] ** 2) / np.mean(note[inside] ** 2))
    error = 10 * np.log10(np.mean((out - note)[inside] ** 2) / np.mean(note[inside] ** 2))
    print(f"a note on the second harmonic: level {lost:+.2f} dB, error {error:.0f} dB against the note")


def main(quick: bool) -> None:
    print("hiss: less noise above 6.5 kHz in the pauses, segmental SNR dB, log-spectral distance dB")
    for name, clean, rate in sources(quick):
        for under in (20,) if quick else (20, 30):
            hiss_row(name, clean, rate, under)
    print("hum: what is left")
    for name, clean, rate in sources(quick):
        for level in (-50,) if quick else (-40, -50, -60):
            hum_row(name, clean, rate, level)
    crossing()


if __name__ == "__main__":
    main("--quick" in sys.argv)
