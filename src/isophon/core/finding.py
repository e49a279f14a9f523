"""From a recording to its survey and the marks of all passes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.marks import Mark
from isophon.core.passes.esses.find import find
from isophon.core.survey import Survey, survey


def survey_recording(
    recording: Recording,
    progress: Callable[[float], None] | None = None,
    on_spectra: Callable[[np.ndarray], None] | None = None,
) -> Survey:
    """Survey a recording; ``on_spectra`` as for :func:`isophon.core.survey.survey`."""
    return survey(recording.blocks(), recording.sample_rate, recording.frames, progress, on_spectra)


def find_marks(recording: Recording, found: Survey) -> tuple[Mark, ...]:
    """The marks of a surveyed recording, in order of time."""
    return find(recording.read, found)


def need_voice(recording: Recording, found: Survey) -> None:
    """Raise InputError if the recording has no voice to measure against."""
    if found.voice_lufs is None:
        raise InputError(
            f"{recording.path.name}: no voice was found to measure against; check that this is the vocal recording"
        )
