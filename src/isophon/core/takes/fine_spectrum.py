"""A narrow-band spectrum of a moment, as sung and as cleaned, with the note that is sung and its partials."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy import signal

from isophon.core.audio.spectra import frames_of, power_spectra
from isophon.core.survey import Survey

_WINDOW_S = 0.5  # of a Hann window, which is 2.9 Hz wide at half power then
_MOST_WINDOWS = 16  # that a mean is of
_MOST_PARTIALS = 60  # that are shown
_NEAR = 0.02  # of a partial's frequency: how far from the multiple of the pitch its peak may lie
_NAMES = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")
_SILENT = 1e-16  # power under which nothing is shown


class Partial(NamedTuple):
    """The ``number``-th partial of a note, its frequency in Hz and its level in dB."""

    number: int
    hz: float
    level_db: float


def fine_levels(samples: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Levels of a stretch, the mean over windows of half a second.

    Parameters
    ----------
    samples : ``(channels, n)``.
    rate : Hz.

    Returns
    -------
    Frequencies in Hz and levels in dBFS, ``(bins,)`` each.
    """
    size = round(_WINDOW_S * rate)
    mono = samples.mean(axis=0)
    mono = np.pad(mono, (0, max(0, size - len(mono))))
    frames = frames_of(mono, size, max(1, size // 2))
    frames = frames[:: -(-len(frames) // _MOST_WINDOWS)]
    window = signal.get_window("hann", size)
    power = power_spectra(frames, 2 * window / window.sum()).mean(axis=0) / 2
    return np.fft.rfftfreq(size, 1 / rate), 10 * np.log10(power + _SILENT)


def pitch_in(survey: Survey, start: float, end: float) -> float | None:
    """The middle of the pitch that is sung in a span (s), Hz; None where there is none."""
    pitch = survey.f0[survey.frame(start) : survey.frame(end) + 1]
    return float(np.median(pitch[pitch > 0])) if (pitch > 0).any() else None


def note_of(hz: float) -> str:
    """A note and how far from it a frequency is, in cents; equal temperament, A4 = 440 Hz (ISO 16)."""
    steps = 69 + 12 * np.log2(hz / 440.0)
    note = int(np.round(steps))
    return f"{_NAMES[note % 12]}{note // 12 - 1} {round(100 * (steps - note)):+d} ct".replace("-", "−")


def partials_of(hz: np.ndarray, levels_db: np.ndarray, pitch_hz: float, top_hz: float) -> list[Partial]:
    """The peaks near the multiples of a pitch in a fine spectrum.

    Parameters
    ----------
    hz, levels_db : ``(bins,)``, Hz and dBFS.
    pitch_hz : Hz.
    top_hz : up to here.
    """
    found = []
    for number in range(1, min(_MOST_PARTIALS, int(top_hz / pitch_hz)) + 1):
        near = np.flatnonzero(np.abs(hz - number * pitch_hz) <= max(_NEAR * number * pitch_hz, 3.0))
        if len(near):
            peak = near[int(np.argmax(levels_db[near]))]
            found.append(Partial(number, float(hz[peak]), float(levels_db[peak])))
    return found


def over_the_fundamental(partials: list[Partial]) -> list[Partial]:
    """The partials that are stronger than the first: where the same frequency is, whatever is sung, it is a ring."""
    return [one for one in partials[1:] if one.level_db > partials[0].level_db] if partials else []
