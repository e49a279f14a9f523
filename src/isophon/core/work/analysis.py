"""From a recording to all that is known of it: the one road of window, ``find``, ``clean`` and hand over.

Leak, survey, marks, in this order: what leaked in is learned first where that is wanted, and everything after it hears
the take without it. What is kept of a take (named after the recording, this version of the program and the bleed that
is out of it, see :mod:`isophon.core.takes.cache`) is taken from there.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import NamedTuple, cast

import msgspec

from isophon.core.audio.files import Recording
from isophon.core.audio.leak import Leak, Removal
from isophon.core.finding import Found, find_all, survey_recording
from isophon.core.marks import Mark
from isophon.core.passes import NAMES
from isophon.core.passes.context import held
from isophon.core.ranges import Name
from isophon.core.session.adopting import Findings
from isophon.core.session.items import Source
from isophon.core.survey import Survey, phrases, words
from isophon.core.survey_streams import geometry_at
from isophon.core.takes import cache as take_cache
from isophon.core.takes.pictures import Spectrogram, lows_of
from isophon.core.work.beside import survey_of
from isophon.core.work.leak_learning import Dry, Lesson, dry, learn

SURVEYING, LEARNING, FINDING = "analysing", "finding the leak", "looking for marks"
Tell = Callable[[str, float], None]


class AnalysisRequest(msgspec.Struct, frozen=True):
    """What is asked of a recording.

    ``kinds``: whose marks are wanted; ``leak``: what is known of its leak, and ``removal``: how that is taken out;
    ``lesson``: what the leak is to be learned from first, None where it is known or not wanted.
    """

    kinds: tuple[Name, ...] = NAMES
    removal: Removal = Removal()
    leak: Leak | None = None
    lesson: Lesson | None = None


class Analysis(NamedTuple):
    """What is known of a recording.

    ``recording``: the take as its marks were found in it, without its leak; ``survey`` and ``found`` are of that, and
    ``without`` tells which leak is out, see :meth:`isophon.core.audio.leak.Removal.key`; ``leak``: None where
    none was asked for, and ``hits``: where it is heard, if it was learned now. ``as_sung()``: the survey of the take
    with its leak in it.
    """

    recording: Recording | Dry
    survey: Survey
    found: Found
    without: str
    leak: Leak | None
    hits: tuple[Mark, ...]
    as_sung: Callable[[], Survey]

    def findings(self, source: Source) -> Findings:
        """What a session takes in of it."""
        survey, found = self.survey, self.found
        return Findings(source, found.marks, survey.voice_lufs, survey.floor_dbfs, found.measured, self.without)


def analyse(
    recording: Recording, request: AnalysisRequest, tell: Tell, *, keep: bool = False, again: bool = False
) -> Analysis:
    """Do what is asked, as far as the cache does not have it.

    Parameters
    ----------
    tell : ``tell(step, fraction)``; may raise to cancel
    keep : whether the survey, its pictures and the marks of all kinds are kept; then all kinds are looked for
    again : whether the cache is left aside

    Raises
    ------
    InputError
        where a cue cannot be read, or the time to learn from is too short
    OutputError
        where something cannot be written to the cache
    """
    leak, hits = request.leak, cast("tuple[Mark, ...]", ())
    as_sung = cache(lambda: survey_of(recording, lambda f: tell(SURVEYING, f)))
    if request.lesson is not None:  # nothing is learned where that is in the cache
        learned = learn(recording, request.lesson, as_sung, lambda f: tell(LEARNING, f))
        leak, hits = leak or learned.facts, learned.marks
    dried = dry(recording, leak, request.removal)
    without = "" if dried is recording else request.removal.key(leak)
    place = take_cache.place_of(recording.path)
    cached = None if again else take_cache.kept_survey(place, without)
    if cached is not None:
        survey, found = cached.survey, cached.found
    elif keep:
        survey, found = _analysed_and_kept(dried, place, without, tell)
    else:
        survey = survey_recording(dried, lambda f: tell(SURVEYING, f))
        found = find_all(held(dried), survey, lambda f: tell(FINDING, f), request.kinds)
    found = msgspec.structs.replace(found, marks=tuple(m for m in found.marks if m.kind in request.kinds))
    return Analysis(dried, survey, found, without, leak, hits, (lambda: survey) if dried is recording else as_sung)


def _analysed_and_kept(dried: Recording | Dry, place: Path, without: str, tell: Tell) -> tuple[Survey, Found]:
    """Survey a take, find its marks and keep all that; the picture at once, since it takes more room than the rest."""
    recording = held(dried)
    spectrogram = Spectrogram(geometry_at(recording.sample_rate))
    survey = survey_recording(recording, lambda f: tell(SURVEYING, f), spectrogram.add)
    spectrogram.finish()
    take_cache.keep_picture(place, "spectrogram", spectrogram, without)
    lows = lows_of(recording.blocks(), recording.sample_rate, recording.channels)
    take_cache.keep_picture(place, "lows", lows, without)
    found = find_all(recording, survey, lambda f: tell(FINDING, f))
    result = take_cache.FindingResult(found, tuple(phrases(survey)), tuple(words(survey)), without)
    take_cache.keep_survey(place, survey, result)
    return survey, found
