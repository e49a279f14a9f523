"""From a recording to its survey and the marks of all kinds."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any

import msgspec
import numpy as np

from isophon.core.audio.files import Recording
from isophon.core.errors import InputError
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME, KINDS, NAMES, AnyMark, Measured
from isophon.core.passes.context import FinderContext, Listened
from isophon.core.survey import Survey, survey

Progress = Callable[[float], None]


def survey_recording(
    recording: Listened, progress: Progress | None = None, on_spectra: Callable[[np.ndarray], None] | None = None
) -> Survey:
    """Surveys a recording.

    Parameters
    ----------
    recording : what is read.
    progress : is called with the share that is done.
    on_spectra : as for :func:`isophon.core.survey.survey`.
    """
    return survey(recording.blocks(), recording.sample_rate, recording.frames, progress, on_spectra)


class Found(msgspec.Struct, frozen=True):
    """What the kinds find in a take: marks in order of time, and what was measured of the whole."""

    marks: tuple[AnyMark, ...]
    measured: Measured = Measured()


def find_all(
    recording: Listened, surveyed: Survey, progress: Progress | None = None, wanted: Collection[str] = NAMES
) -> Found:
    """What all kinds find in a surveyed recording; ``progress`` may raise to cancel.

    ``wanted``: the kinds whose marks are wanted; what is measured of the whole take is always returned, since others'
    treatments may start from it.
    """
    context = FinderContext(recording, surveyed, BY_NAME)
    marks: list[Mark] = []
    measured: dict[str, Any] = {}
    for done, kind in enumerate(KINDS):
        if progress:
            progress(done / len(KINDS))
        if kind.name not in wanted and not kind.finder.measures:
            continue
        found = context.found(kind.name)
        marks += found.marks
        measured |= {**found.measured, **kind.finder.also(context)}
    return Found(tuple(sorted(marks, key=lambda m: (m.start, m.id))), Measured(**measured))


def find_against(
    recording: Listened, surveyed: Survey, lead: Survey, later_s: float, wanted: Collection[str] = NAMES
) -> Found:
    """What is found in a stack part by hearing the lead beside it.

    ``lead``: the survey of the lead; ``later_s``: how much later the part starts.
    """
    context = FinderContext(recording, surveyed, BY_NAME)
    marks: list[Mark] = []
    measured: dict[str, Any] = {}
    finders = (kind.beside_lead.find for kind in KINDS if kind.name in wanted)
    for find in filter(None, finders):
        found = find(context, lead, later_s)
        marks += found.marks
        measured |= found.measured
    return Found(tuple(sorted(marks, key=lambda m: (m.start, m.id))), Measured(**measured))


def need_voice(recording: Recording, found: Survey) -> None:
    """Raise InputError if the recording has no voice to measure against."""
    if found.voice_lufs is None:
        raise InputError(
            f"{recording.path.name}: no voice was found to measure against; check that this is the vocal recording"
        )
