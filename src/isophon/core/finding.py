"""From a recording to its survey and the marks of all passes."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.audio.lowrate import LowRate
from isophon.core.errors import InputError
from isophon.core.facts import Facts
from isophon.core.marks import Mark
from isophon.core.passes.breaths.find import find as find_breaths
from isophon.core.passes.esses.find import find as find_esses
from isophon.core.passes.gaps.find import find as find_gaps
from isophon.core.passes.gaps.find import room_of, still_density
from isophon.core.passes.hiss.settings import noise_of
from isophon.core.passes.hum.find import RATE as HUM_RATE
from isophon.core.passes.hum.find import find as find_hum
from isophon.core.passes.hum.model import Hum, hum_of
from isophon.core.passes.pops.find import find as find_pops
from isophon.core.passes.pops.find import lows_of
from isophon.core.passes.rumble.lowcut import lowest_note
from isophon.core.passes.ticks.find import find as find_ticks
from isophon.core.sounding import sounding
from isophon.core.survey import Survey, survey

Read = Callable[[int, int], np.ndarray]


def survey_recording(
    recording: Recording,
    progress: Callable[[float], None] | None = None,
    on_spectra: Callable[[np.ndarray], None] | None = None,
) -> Survey:
    """Survey a recording; ``on_spectra`` as for :func:`isophon.core.survey.survey`."""
    return survey(recording.blocks(), recording.sample_rate, recording.frames, progress, on_spectra)


class Found(msgspec.Struct, frozen=True):
    """What the passes found in a take: marks in order of time, and the facts of the whole."""

    marks: tuple[Mark, ...]
    facts: Facts = Facts()


def find_all(recording: Recording, surveyed: Survey) -> Found:
    """What all passes find in a surveyed recording."""
    esses = tuple(find_esses(recording.read, surveyed))
    sounds = sounding(surveyed, [(mark.start, mark.end) for mark in esses])
    breaths = find_breaths(surveyed, sounds)
    gaps = find_gaps(surveyed, sounds, breaths)
    rate = recording.sample_rate
    low = LowRate(recording.read, rate, recording.frames, recording.channels, HUM_RATE)
    hum = find_hum(low, rate)
    read = _without(hum, recording.read)
    density = still_density(read, surveyed, [(gap.start, gap.end) for gap in gaps])
    noise = noise_of(density, recording.sample_rate)
    pops, ticks = find_pops(lows_of(low, hum, rate), surveyed), find_ticks(recording.read, surveyed)
    marks = tuple(sorted((*esses, *breaths, *gaps, *pops, *ticks), key=lambda m: (m.start, m.id)))
    return Found(marks, Facts(lowest_note(surveyed), room_of(density), hum, noise))


def noise_in(recording: Recording, surveyed: Survey, hum: Hum | None, start: float, end: float) -> tuple[float, ...]:
    """The noise of a span in s; InputError where it is too short to learn from."""
    density = still_density(_without(hum, recording.read), surveyed, [(start, end)])
    if density is None:
        raise InputError(
            f"{recording.path.name}: {start:.2f} to {end:.2f} s is too short to learn the noise from; "
            "choose 0.2 s or more of stillness inside the take"
        )
    return noise_of(density, recording.sample_rate)


def _without(hum: Hum | None, read: Read) -> Read:
    """Reads a take without its hum, which is no part of the room."""
    if hum is None:
        return read
    return lambda start, frames: read(start, frames) - hum_of(hum, start, frames)


def need_voice(recording: Recording, found: Survey) -> None:
    """Raise InputError if the recording has no voice to measure against."""
    if found.voice_lufs is None:
        raise InputError(
            f"{recording.path.name}: no voice was found to measure against; check that this is the vocal recording"
        )
