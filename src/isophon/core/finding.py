"""From a recording to its survey and the marks of all passes."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.marks import Mark
from isophon.core.passes.breaths.find import find as find_breaths
from isophon.core.passes.esses.find import find as find_esses
from isophon.core.passes.gaps.find import find as find_gaps
from isophon.core.passes.gaps.find import room_of
from isophon.core.passes.rumble.lowcut import lowest_note
from isophon.core.sounding import sounding
from isophon.core.survey import Survey, survey


def survey_recording(
    recording: Recording,
    progress: Callable[[float], None] | None = None,
    on_spectra: Callable[[np.ndarray], None] | None = None,
) -> Survey:
    """Survey a recording; ``on_spectra`` as for :func:`isophon.core.survey.survey`."""
    return survey(recording.blocks(), recording.sample_rate, recording.frames, progress, on_spectra)


class Found(msgspec.Struct, frozen=True):
    """What the passes found in a take: marks in order of time, the lowest notes (Hz), the sound of the room."""

    marks: tuple[Mark, ...]
    lowest_hz: float | None = None
    room: tuple[float, ...] = ()


def find_all(recording: Recording, surveyed: Survey) -> Found:
    """What all passes find in a surveyed recording."""
    esses = tuple(find_esses(recording.read, surveyed))
    sounds = sounding(surveyed, [(mark.start, mark.end) for mark in esses])
    breaths = find_breaths(surveyed, sounds)
    gaps = find_gaps(surveyed, sounds, breaths)
    marks = tuple(sorted((*esses, *breaths, *gaps), key=lambda m: (m.start, m.id)))
    return Found(marks, lowest_note(surveyed), room_of(recording.read, surveyed, gaps))


def need_voice(recording: Recording, found: Survey) -> None:
    """Raise InputError if the recording has no voice to measure against."""
    if found.voice_lufs is None:
        raise InputError(
            f"{recording.path.name}: no voice was found to measure against; check that this is the vocal recording"
        )
