"""Recordings from the command line: what is found in them, and their stems."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Any, NamedTuple

import msgspec
from msgspec.structs import replace

from isophon.core.audio.files import Recording
from isophon.core.audio.leak import Leak
from isophon.core.errors import Cancelled, InputError, IsophonError, shown
from isophon.core.finding import need_voice
from isophon.core.handover.stems import hand_over
from isophon.core.handover.target import Target, check_free
from isophon.core.log import INSIDE
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME, KINDS, NAMES, Settings
from isophon.core.ranges import File, Name
from isophon.core.reading import path_of
from isophon.core.session import adopting, edits
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Role, Session
from isophon.core.session.notes import notes_of
from isophon.core.session.redrawing import with_redrawn
from isophon.core.survey import Survey
from isophon.core.work.analysis import Analysis, AnalysisRequest, analyse
from isophon.core.work.completing import completed
from isophon.core.work.leads import beside_the_leads, lead_of
from isophon.core.work.leak_learning import Lesson

_log = logging.getLogger(__name__)

Tell = Callable[[str, float], None]


class FileRequest(msgspec.Struct, frozen=True):
    """What a call asks of a recording that is in no session.

    ``kinds``: those that are worked on; ``lesson``: what its leak is learned from; ``mark_files``: files of marks, by
    the options that name them; ``leads``: those that it belongs to.
    """

    path: File
    role: Role
    settings: Settings
    kinds: tuple[Name, ...] = NAMES
    lesson: Lesson | None = None
    mark_files: dict[str, File] = {}
    leads: tuple[File, ...] = ()


class Cleaned(NamedTuple):
    """The row of the report about a stem, and lines on what is doubtful about it."""

    row: dict[str, Any]
    warnings: list[str]


class FoundInFile(NamedTuple):
    """A recording as a part with all that was found in it, the survey of that, and lines on what is doubtful."""

    part: Part
    survey: Survey
    warnings: list[str]


def found_in(recording: Recording, asked: FileRequest, tell: Tell) -> FoundInFile:
    """What is found in a recording; ``tell(step, fraction)`` may raise to cancel.

    InputError where it cannot be used, or a file that was named; OutputError where a leak cannot be kept.
    """
    part, kinds, warnings = _part_of(recording, asked), asked.kinds, []
    removing = part.removal.on and any(BY_NAME[name].leak_removal for name in kinds)
    lesson = asked.lesson if removing else None
    analysis = analyse(recording, AnalysisRequest(kinds=kinds, removal=part.removal, lesson=lesson), tell)
    if lesson is not None:
        warnings += _missing_in(recording, lesson, analysis.leak)
    if any(BY_NAME[name].finder.needs_voice for name in kinds):
        need_voice(recording, analysis.survey)
    session = adopting.adopt_findings(Session("", (part,)), part.id, analysis.findings(part.source))
    part = with_redrawn(session, session.part(part.id), analysis.survey)
    marks = _with_files((*part.marks, *analysis.hits), asked, recording.duration)
    part = _with_learned(replace(part, marks=marks, leak=analysis.leak), analysis)
    if asked.leads:
        leads = [(lead, lead.begins(recording)) for lead in map(lead_of, map(path_of, asked.leads))]
        part = beside_the_leads(part, recording, analysis.as_sung(), leads, kinds)
        warnings += _doubts(part, kinds)
    return FoundInFile(only(part, kinds), analysis.survey, warnings)


def clean_file(asked: FileRequest, target: Target, tell: Tell) -> Cleaned:
    """Find what is in a recording and write its stem."""
    path = path_of(asked.path)
    tell = _noted(path.name, tell)
    with _as_shown_error(path.name), Recording(path) as recording:
        part, survey, warnings = found_in(recording, asked, tell)
        return Cleaned(hand_over(part, recording, survey, target, lambda f: tell("cleaning", f)), warnings)


def clean_part(session: Session, part_id: str, target: Target, tell: Tell, kinds: Collection[str] = NAMES,
               keep: bool = True) -> Cleaned:  # fmt: skip
    """Write the stem of a part of a session, once what is not known of it yet is found; ``keep``: that in the cache."""
    part = session.part(part_id)
    path = path_of(part.source.path)
    tell = _noted(path.name, tell)
    with _as_shown_error(path.name), Recording(path) as recording:
        edits.check_source(part.source, recording)
        check_free(part, target)
        ready, survey = completed(session, part, recording, tell, kinds, keep)
        warnings = [] if session.followed_by(part) is None else _doubts(ready, kinds)
        ready = only(ready, kinds)
        row = hand_over(ready, recording, survey, target, lambda f: tell("cleaning", f), session.rate,
                        notes_of(session, ready))  # fmt: skip
        return Cleaned(row, warnings)


def only(part: Part, kinds: Collection[str]) -> Part:
    """A part on which only some kinds are worked."""
    left_out = {name: part.settings(name) for name in NAMES if name not in kinds}
    off = {name: replace(one, on=False) for name, one in left_out.items() if hasattr(one, "on")}
    return replace(part, marks=tuple(m for m in part.marks if m.kind in kinds), **off)


def _part_of(recording: Recording, asked: FileRequest) -> Part:
    path = path_of(asked.path)
    source = Source(asked.path, recording.sample_rate, recording.channels, recording.frames)
    return Part("part-1", path.stem, source, asked.role, **{name: getattr(asked.settings, name) for name in NAMES})


def _with_files(marks: Sequence[Mark], asked: FileRequest, duration_s: float) -> tuple[Mark, ...]:
    """Marks with those of the files that were named, in order of time."""
    for kind in KINDS:
        named = kind.mark_file
        if named is not None and named.option in asked.mark_files:
            others = [mark for mark in marks if not named.replaces or mark.kind != kind.name]
            marks = [*others, *named.read(path_of(asked.mark_files[named.option]), duration_s)]
    return tuple(sorted(marks, key=lambda m: (m.start, m.id)))


def _with_learned(part: Part, analysis: Analysis) -> Part:
    """A part with what is to be learned from the spans that its settings name."""
    for learning in (kind.span_learning for kind in KINDS if kind.span_learning):
        span = learning.asked(part)
        if span is not None:
            value = learning.learn(analysis.recording, analysis.survey, part, span)
            part = learning.adopt(part, span, value)
    return part


def _missing_in(recording: Recording, lesson: Lesson, leak: Leak | None) -> list[str]:
    """Which cues are not heard in a recording."""
    known = leak if leak and leak.key else None
    if lesson.cues:
        names = [path_of(cue.path).name for cue in lesson.cues]
        missing = [f"no leak of {name}" for name in names if known is None or name not in known.cues]
    else:
        missing = [] if known else ["no regular click"]
    return [f"{recording.path.name}: {what} was found in it; nothing of that was taken out" for what in missing]


def _doubts(part: Part, kinds: Collection[str]) -> list[str]:
    """What is doubtful in what is found beside the lead."""
    beside = [kind for kind in KINDS if kind.beside_lead.find and kind.name in kinds]
    name = path_of(part.source.path).name
    return [f"{name}: {doubt.words}" for kind in beside for doubt in kind.reporter.doubts(part)]


def _noted(name: str, tell: Tell) -> Tell:
    """``tell``, with a line in the log where each step begins."""
    step = ""

    def noted(what: str, fraction: float) -> None:
        nonlocal step
        if what != step:
            step = what
            _log.warning("%s: %s", shown(name), what)
        tell(what, fraction)

    return noted


@contextlib.contextmanager
def _as_shown_error(name: str) -> Iterator[None]:
    """Any error as one that can be shown to a person."""
    try:
        yield
    except (IsophonError, Cancelled):
        raise
    except OSError as error:
        raise InputError(f"{name}: cannot be worked on ({error.strerror or error}); check it and its folder") from error
    except MemoryError as error:
        raise InputError(f"{name}: there is not enough memory for it; close other programs, or split it") from error
    except Exception as error:
        _log.error(INSIDE, error, exc_info=error)
        what = f"an error inside Isophon ({type(error).__name__}: {error})"
        raise IsophonError(f"{name}: {what}; please report it") from error
