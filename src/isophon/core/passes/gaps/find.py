"""Finding dead air: what lies between the singing and the breaths, and how loud it is; and the sound of the room."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise

import numpy as np
from scipy import signal

from isophon.core.audio.loudness import db, lufs
from isophon.core.audio.spectra import third_octave_edges
from isophon.core.marks import Mark, mark_id
from isophon.core.passes.ears import Ears
from isophon.core.passes.hum.treat import Hum, hum_of
from isophon.core.passes.kind import Read
from isophon.core.survey import STILL, Survey

_SHORTEST_S = 0.1
_MOMENT_S = 0.05
_ROOM_WINDOW = 8_192
_ROOM_PIECES = 60
ROOM_EDGES = (20.0, 16_000.0)
SILENT_DB = -150.0

Density = tuple[np.ndarray, np.ndarray]


def density(ears: Ears) -> Density | None:
    """The noise of the room in the gaps of a take, without its hum, see :func:`still_density`."""
    spans = [(gap.start, gap.end) for gap in ears.marks("gap")]
    read = without(ears.measured("hum", "hum"), ears.read)
    return ears.kept("gaps' density", lambda: still_density(read, ears.survey, spans))


def without(hum: Hum | None, read: Read) -> Read:
    """Reads a take without its hum, which is no part of the room."""
    if hum is None:
        return read
    return lambda start, frames: read(start, frames) - hum_of(hum, start, frames)


def find(survey: Survey, sounds: list[tuple[float, float]], breaths: Iterable[Mark]) -> tuple[Mark, ...]:
    """The gaps of a take: heads, tails, and all between stretches of singing and breaths; 100 ms or longer."""
    if not sounds or survey.voice_lufs is None:
        return ()
    taken = sorted([*sounds, *((m.start, m.end) for m in breaths)])
    length = survey.samples / survey.sample_rate
    gaps, until = [], 0.0
    for start, end in [*taken, (length, length)]:
        if start - until >= _SHORTEST_S:
            gaps.append((until, min(start, length)))
        until = max(until, end)
    return tuple(measured(survey, start, end) for start, end in gaps)


def measured(survey: Survey, start: float, end: float) -> Mark:
    """A gap with the level of its loudest 50 ms, against the voice around it and against the room."""
    frames = slice(survey.frame(start), max(survey.frame(start) + 1, survey.frame(end)))
    moment = max(1, round(_MOMENT_S / survey.hop_s))
    power = survey.k_power[frames].astype(np.float64)
    whole = np.convolve(power, np.ones(min(moment, len(power))) / min(moment, len(power)), mode="valid")
    level = lufs(float(whole.max()))
    quiet = survey.state == STILL
    room = lufs(float(np.median(survey.k_power[quiet]))) if quiet.any() else level
    standout = level - float(np.mean(survey.voice_level[frames]))
    return Mark(
        mark_id("gap", start), "gap", round(start, 4), round(end, 4), round(level, 2), round(standout, 2),
        20.0, 20_000.0, 1.0, over_room_db=round(max(0.0, level - max(room, SILENT_DB)), 1),
    )  # fmt: skip


def still_density(read: Read, survey: Survey, spans: Iterable[tuple[float, float]]) -> Density | None:
    """The power density of the stillest moments of some spans (s), median over time; None where none is long enough.

    Frequencies in Hz and mean square for each bin, both ``(bins,)``.
    """
    rate = survey.sample_rate
    size = round(_ROOM_WINDOW * rate / 48_000)
    hop = size / rate / 2
    places = []
    for start, end in spans:
        for at in np.arange(start, end - size / rate, hop):
            frames = slice(survey.frame(at), survey.frame(at + size / rate))
            places.append((float(survey.k_power[frames].max()), at))
    quietest = sorted(places)[: max(8, min(_ROOM_PIECES, len(places) // 2))]
    if not quietest:
        return None
    window = signal.get_window("hann", size)
    window /= np.sqrt(np.square(window).sum())
    spectra = []
    for _, at in quietest:
        samples = read(round(at * rate), size)
        spectra.append(2 * np.square(np.abs(np.fft.rfft(samples * window, axis=1))).mean(axis=0) / size)
    return np.fft.rfftfreq(size, 1 / rate), np.median(spectra, axis=0) / _MEDIAN_OF_MEAN


def room_of(density: Density | None) -> tuple[float, ...]:
    """The sound of the room: third-octave levels in dBFS from 20 Hz to 16 kHz.

    All −150 where the stillness is digital silence or nothing is still.
    """
    edges = third_octave_edges(*ROOM_EDGES)
    if density is None:
        return (SILENT_DB,) * (len(edges) - 1)
    freqs, power = density
    bands = [float(power[(freqs >= low) & (freqs < high)].sum()) if (freqs < high)[freqs >= low].any() else 0.0
             for low, high in pairwise(edges)]  # fmt: skip
    return tuple(round(max(SILENT_DB, db(band)), 1) for band in bands)


_MEDIAN_OF_MEAN = float(np.log(2))  # median over mean of the exponential distribution that a noise's periodogram has
