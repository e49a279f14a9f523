"""From a recording to its survey and the marks of all passes."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.marks import Mark
from isophon.core.passes.esses.find import find
from isophon.core.survey import Survey, survey


def survey_recording(
    recording: Recording,
    progress: Callable[[float], None] | None = None,
    listen: Callable[[np.ndarray], None] | None = None,
) -> Survey:
    """Survey a recording; ``listen`` is given every block as it is read."""
    return survey(_heard(recording, listen), recording.sample_rate, recording.frames, progress)


def find_marks(recording: Recording, found: Survey) -> tuple[Mark, ...]:
    """The marks of a surveyed recording, in order of time."""
    return find(recording.read, found)


def need_voice(recording: Recording, found: Survey) -> None:
    """Raise InputError if the recording has no voice to measure against."""
    if found.voice_lufs is None:
        raise InputError(
            f"{recording.path.name}: no voice was found to measure against; check that this is the vocal recording"
        )


def _heard(recording: Recording, listen: Callable[[np.ndarray], None] | None) -> Iterable[np.ndarray]:
    for block in recording.blocks():
        if listen:
            listen(block)
        yield block
