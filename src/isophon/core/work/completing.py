"""What is not known of a part yet, found before the part is handed over: by the window and the terminal alike."""

from __future__ import annotations

from collections.abc import Callable, Collection

from msgspec.structs import replace

from isophon.core.audio.files import Recording
from isophon.core.finding import Found, find_all, survey_recording
from isophon.core.passes import NAMES, bleed
from isophon.core.passes.bleed.settings import in_force
from isophon.core.session import edits
from isophon.core.session.model import Part, Session
from isophon.core.survey import Survey
from isophon.core.takes import cache as take_cache
from isophon.core.work.beside import survey_of
from isophon.core.work.bleed_learning import dry, learn, lesson_again
from isophon.core.work.leads import beside_the_songs_lead

Tell = Callable[[str, float], None]
SHARES = {"surveying": (0.0, 0.2), "learning the bleed": (0.1, 0.1), "looking for marks": (0.2, 0.3),
          "cleaning": (0.5, 0.5)}  # fmt: skip
"""Where each step begins and how much of the whole it is, as fractions; the last is writing the stem."""


def completed(
    session: Session, part: Part, recording: Recording, tell: Tell, kinds: Collection[str] = NAMES
) -> tuple[Part, Survey]:
    """A part of a session with its marks, its leak and what it meets in the lead, and the survey of its recording.

    What the session holds already stays as it is. ``tell(step, fraction)`` may raise to cancel. InputError where a
    recording cannot be used, OutputError where a leak cannot be kept.
    """
    survey = survey_of(recording, lambda f: tell("surveying", f))
    lesson = lesson_again(session, part) if bleed.KIND.name in kinds else None
    if lesson is not None:  # nothing is learned where it is still kept
        learn(recording, lesson, survey, lambda f: tell("learning the bleed", f))
    if not part.found:
        part = _found(session, part, recording, survey, tell)
    return beside_the_songs_lead(session, part, recording, survey, kinds), survey


def needed(session: Session, part: Part) -> Session:
    """What :func:`completed` needs of a session: marks of other parts than those that this one is heard beside go."""
    beside = (part, session.lead, session.followed_by(part))
    parts = (one if any(one is other for other in beside) else replace(one, marks=()) for one in session.parts)
    return replace(session, parts=tuple(parts), heard=())


def _found(session: Session, part: Part, recording: Recording, survey: Survey, tell: Tell) -> Part:
    """A part that has not been looked through (by this version): what is found meets what was decided by hand."""
    without = in_force(part.leak, part.bleed)
    heard = dry(recording, part.leak, part.bleed)
    kept = take_cache.kept_survey(take_cache.place_of(recording.path), "" if heard is recording else without)
    if kept is not None:
        found: Found = kept.found
        survey = kept.survey
    else:
        survey = survey if heard is recording else survey_recording(heard)
        found = find_all(heard, survey, lambda f: tell("looking for marks", f))
    findings = edits.Findings(part.source, found.marks, survey.voice_lufs, survey.floor_dbfs, found.measured, without)
    return edits.adopt_findings(session, part.id, findings).part(part.id)
