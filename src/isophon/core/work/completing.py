"""What is not known of a part yet, found before the part is handed over: by the window and the terminal alike."""

from __future__ import annotations

from collections.abc import Collection

from msgspec.structs import replace

from isophon.core.audio.files import Recording
from isophon.core.passes import BY_NAME, NAMES
from isophon.core.session.adopting import adopt_findings
from isophon.core.session.model import Part, Session
from isophon.core.session.redrawing import with_redrawn
from isophon.core.survey import Survey
from isophon.core.work.analysis import FINDING, LEARNING, SURVEYING, AnalysisRequest, Tell, analyse
from isophon.core.work.leads import beside_the_songs_leads
from isophon.core.work.leak_learning import lesson_again

SHARES = {SURVEYING: (0.0, 0.2), LEARNING: (0.1, 0.1), FINDING: (0.2, 0.3), "cleaning": (0.5, 0.5)}
"""Where each step begins and how much of the whole it is, as fractions; the last is writing the stem."""


def completed(
    session: Session, part: Part, recording: Recording, tell: Tell, kinds: Collection[str] = NAMES, keep: bool = False
) -> tuple[Part, Survey]:
    """A part of a session with its marks, its leak and what it meets in the lead, and the survey they were found on.

    What the session holds already stays as it is. ``tell(step, fraction)`` may raise to cancel; ``keep``: whether what
    is found is kept. InputError where a recording cannot be used, OutputError where a leak cannot be kept.
    """
    lesson = lesson_again(session, part) if any(BY_NAME[name].leak_removal for name in kinds) else None
    request = AnalysisRequest(removal=part.removal, leak=part.leak, lesson=lesson)
    analysis = analyse(recording, request, tell, keep=keep)
    if not part.found:  # by this version; what is found meets what was decided by hand
        session = adopt_findings(session, part.id, analysis.findings(part.source))
        part = session.part(part.id)
    part = with_redrawn(session, part, analysis.survey)
    return beside_the_songs_leads(session, part, recording, analysis.as_sung(), kinds), analysis.survey


def needed(session: Session, part: Part) -> Session:
    """What :func:`completed` needs of a session: marks of other parts than those that this one is heard beside go."""
    beside = (part, *session.leads, *session.followed(part))
    parts = (one if any(one is other for other in beside) else replace(one, marks=()) for one in session.parts)
    return replace(session, parts=tuple(parts), heard=())
