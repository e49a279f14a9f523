"""What `isophon find` and `isophon clean` do."""

from __future__ import annotations

import argparse
import dataclasses
import json
import sys
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path
from types import MappingProxyType
from typing import Any, cast

from msgspec.structs import replace

from isophon.cli.batch import Outcome, Tell, Work, worked_through
from isophon.cli.listing import print_marks, told_of
from isophon.cli.options import check_role, kind_list, kinds_of, mark_files, one_setting, settings_of
from isophon.core import log
from isophon.core.audio.files import Recording
from isophon.core.audio.leak import Leak
from isophon.core.audio.threads import cores
from isophon.core.audio.writing import check_target
from isophon.core.errors import CallError, ExistsError, InputError, IsophonError, OutputError, shown
from isophon.core.finding import need_voice
from isophon.core.handover import bundle
from isophon.core.handover import stems as handover
from isophon.core.passes import BY_NAME, KINDS, NAMES
from isophon.core.reading import path_of, spelled
from isophon.core.session import edits, file
from isophon.core.session.model import Part, Role, Session, Source
from isophon.core.survey import Survey
from isophon.core.work.analysis import Analysis, AnalysisRequest, analyse
from isophon.core.work.completing import SHARES, completed
from isophon.core.work.leads import Lead, beside_the_lead, lead_of
from isophon.core.work.leak_learning import CueFile, Lesson

Show = Callable[[str, float], None]


def find(call: argparse.Namespace) -> int:
    """List the marks found in one recording, or those of a saved session as they were decided."""
    if call.audio.suffix == file.ENDING:
        return _listed_session(call)
    check_role(call)
    role = call.role or "lead"
    kinds, settings = kinds_of(call), settings_of(call, role)
    with Recording(call.audio) as recording:
        part = _part(call.audio, recording, role, settings)
        part, found = _surveyed(part, recording, kinds, _progress(call, call.audio), _lesson(call, settings),
                                mark_files(call), lead_of(call.lead))  # fmt: skip
    result = told_of(part, recording.path.name, found.floor_dbfs, call.lead and call.lead.name)
    if call.json:
        print(json.dumps(result, indent=1))
    else:
        print_marks(part, result)
    return 0


def _listed_session(call: argparse.Namespace) -> int:
    """What a session holds, part by part; its recordings are not read."""
    _refuse_for_sessions(call)
    kinds = kinds_of(call)
    session = _loaded(call.audio)
    rows = []
    for part in session.parts:
        followed = session.followed_by(part)
        lead = None if followed is None else path_of(followed.source.path).name
        ready = _only(part, kinds)
        row = told_of(ready, path_of(part.source.path).name, part.floor_dbfs, lead)
        rows.append({"name": part.name, "role": part.role, **row})
        if not call.json:
            print_marks(ready, row)
    if call.json:
        print(json.dumps({"session": session.name, "parts": rows}, indent=1))
    return 0


def _loaded(path: Path) -> Session:
    told: list[str] = []
    session = file.load(path, told)
    for line in told:
        print(f"isophon: {shown(line)}", file=sys.stderr)
    return session


def clean(call: argparse.Namespace) -> int:
    """Clean recordings or the parts of a session; one bad file does not stop the others."""
    check_target(call.format, call.depth)
    if bool(call.audio) == bool(call.session):
        raise CallError("clean takes either recordings or --session SESSION; see isophon clean --help")
    if call.session:
        _refuse_for_sessions(call)
    check_role(call)
    kinds = kinds_of(call)
    if call.together and not call.session:
        raise CallError("--together: the song is told by a session; name it with --session SESSION")
    handover.check_pattern(call.name)
    target = handover.Target(call.out, call.format, call.depth, call.force, call.removed, call.labels,
                             cues=call.cues, proof=call.report, name=call.name)  # fmt: skip
    if call.session:
        session = _loaded(call.session)
        target = dataclasses.replace(target, song=session.name, together=session.span if call.together else None)
    jobs, inputs = _session_jobs(call, kinds) if call.session else _file_jobs(call, kinds)
    rows: list[dict[str, Any]] = []
    if call.whole:
        with bundle.whole(target) as made:
            status = _written(call, jobs, inputs, made, rows)
            if status:
                raise OutputError(f"{target.folder}: not everything could be written, so nothing was; see above")
    else:
        status = _written(call, jobs, inputs, target, rows)
    if call.json:
        print(json.dumps({"files": [{n: v for n, v in row.items() if n != "proof"} for row in rows]}, indent=1))
    return status


def _written(call: argparse.Namespace, jobs: Jobs, inputs: list[Path], target: handover.Target,
             rows: list[dict[str, Any]]) -> int:  # fmt: skip
    """Write everything and the report of it; the highest status."""
    handover.check_report(target, inputs)
    try:
        return _all_done(call, _works(jobs, inputs, target), rows)
    finally:
        if any("error" not in row for row in rows):
            handover.write_report(rows, target.folder, target.song)


Job = Callable[[handover.Target, Show], dict[str, Any]]
Jobs = list[tuple[Part, Job]]


def _all_done(call: argparse.Namespace, works: list[Work], rows: list[dict[str, Any]]) -> int:
    """Do all works and gather their rows; the highest status of those that failed."""
    count = min(call.jobs or cores(), len(works))
    quiet = call.quiet or not sys.stderr.isatty()
    if count < 2:
        outcomes: Iterator[Outcome] = (Outcome(*work(lambda fraction: None), "") for work in works)
    else:
        outcomes = worked_through(works, count, None if quiet else partial(_show_all, len(works)))
    status = 0
    for outcome in outcomes:
        rows.append(outcome.row)
        status = max(status, outcome.status)
        print(outcome.lines, end="", file=sys.stderr, flush=True)
    return status


def _works(jobs: Jobs, inputs: list[Path], target: handover.Target) -> list[Work]:
    """What is to be done with each recording, none of which can stop the others."""
    taken: dict[Path, Path] = {}

    def work(
        part: Part, job: Job, target: handover.Target, before: dict[Path, Path], tell: Tell
    ) -> tuple[dict[str, Any], int]:
        path = path_of(part.source.path)
        try:
            for output in handover.outputs(part, target):
                if output in before:
                    raise OutputError(f"{path}: would write {output.name} as {before[output]} does; use another --out")
            handover.check_free(part, target, inputs)
            row = job(target, lambda what, fraction: tell(SHARES[what][0] + SHARES[what][1] * fraction))
            _warn_of_clipping(row)
        except Exception as error:
            told = _told(error, path)
            print(f"isophon: {told}", file=sys.stderr)
            return {"file": path.name, "error": str(told)}, told.status
        return row, 0

    works: list[Work] = []
    for row, (part, job) in enumerate(jobs, 1):
        mine = handover.numbered(target, row, len(jobs))
        works.append(partial(work, part, job, mine, dict(taken)))
        taken = {output: path_of(part.source.path) for output in handover.outputs(part, mine)} | taken
    return works


def _warn_of_clipping(row: dict[str, Any]) -> None:
    if row["clipped_samples"]:
        told = f"{shown(row['output'])}: {row['clipped_samples']} samples were clipped at full scale"
        print(f"isophon: {told}; --depth 32f keeps them", file=sys.stderr)


def _told(error: Exception, path: Path) -> IsophonError:
    """Any error as one that a person is told about."""
    if isinstance(error, ExistsError):
        return ExistsError(f"{error} (--force)")
    if isinstance(error, IsophonError):
        return error
    if isinstance(error, OSError):
        return InputError(f"{path.name}: cannot be worked on ({error.strerror or error}); check it and its folder")
    if isinstance(error, MemoryError):
        return InputError(f"{path.name}: there is not enough memory for it; close other programs, or split it")
    log.trouble(error)
    return IsophonError(f"{path.name}: an error inside Isophon ({type(error).__name__}: {error}); please report it")


def _refuse_for_sessions(call: argparse.Namespace) -> None:
    """A session says itself what its parts are and what leaked; an option that would not be heeded is refused."""
    for option, given in (("--role", call.role is not None), ("--cue", call.cue), ("--own-click", call.own_click),
                          ("--bed", call.bed), *((f"--{name}", path) for name, path in mark_files(call).items()),
                          ("--lead", call.lead)):  # fmt: skip
        if given:
            raise CallError(f"{option}: is told by the session itself; leave it out, or change it in the session")


def _file_jobs(call: argparse.Namespace, kinds: set[str]) -> tuple[Jobs, list[Path]]:
    settings, lead = settings_of(call, call.role or "lead"), lead_of(call.lead)

    def job(path: Path) -> Job:
        def run(target: handover.Target, tell: Show) -> dict[str, Any]:
            progress = _both(tell, _progress(call, path))
            with Recording(path) as recording:
                part = _part(path, recording, call.role or "lead", settings)
                part, found = _surveyed(part, recording, kinds, progress, _lesson(call, settings), mark_files(call),
                                        lead)  # fmt: skip
                return handover.hand_over(part, recording, found, target, partial(progress, "cleaning"))

        return run

    inputs = [*call.audio, *call.cue, *((call.bed,) if call.bed else ()), *((call.card,) if call.card else ()),
              *mark_files(call).values(), *((call.lead,) if call.lead else ())]  # fmt: skip
    parts = [Part("part-1", path.stem, Source(spelled(path), 48_000, 1, 1)) for path in call.audio]
    jobs = [(part, job(path)) for part, path in zip(parts, call.audio, strict=True)]
    return sorted(jobs, key=lambda one: path_of(one[0].source.path).name), inputs


def _session_jobs(call: argparse.Namespace, kinds: set[str]) -> tuple[Jobs, list[Path]]:
    session = _loaded(call.session)
    card = file.load_card(call.card) if call.card else {}
    changes = [one_setting(item) for item in call.set]
    ids = [part.id for part in session.parts]
    session = edits.set_settings(session, ids, card)
    for kind, setting, value in changes:
        session = edits.set_setting(session, ids, kind, setting, value)

    def job(part: Part) -> Job:
        path = path_of(part.source.path)

        def run(target: handover.Target, tell: Show) -> dict[str, Any]:
            progress = _both(tell, _progress(call, path))
            with Recording(path) as recording:
                edits.check_source(part.source, recording)
                ready, found = completed(session, part, recording, progress, kinds)
                if session.followed_by(part) is not None:
                    _say_doubts(ready, kinds)
                ready = _only(ready, kinds)
                return handover.hand_over(ready, recording, found, target, partial(progress, "cleaning"), session.rate)

        return run

    inputs = [call.session, *(path_of(item.source.path) for item in session.items)]
    inputs += [call.card] if call.card else []
    return [(part, job(part)) for part in session.parts], inputs


def _part(path: Path, recording: Recording, role: str, settings: dict[str, Any]) -> Part:
    source = Source(spelled(path), recording.sample_rate, recording.channels, recording.frames)
    return Part("part-1", path.stem, source, cast("Role", role), **settings)


def _surveyed(
    part: Part,
    recording: Recording,
    kinds: set[str],
    progress: Show,
    lesson: Lesson | None = None,
    files: Mapping[str, Path] = MappingProxyType({}),
    lead: Lead | None = None,
) -> tuple[Part, Survey]:
    removing = any(BY_NAME[name].leak_removal for name in kinds)
    asked = lesson if removing and part.removal.on else None
    request = AnalysisRequest(kinds=tuple(kinds), removal=part.removal, lesson=asked)
    analysis = analyse(recording, request, progress)
    found = analysis.survey
    if asked is not None:
        _warn_of_leak(recording, asked, analysis.leak)
    if any(BY_NAME[name].finder.needs_voice for name in kinds):
        need_voice(recording, found)
    part = edits.adopt_findings(Session("", (part,)), part.id, analysis.findings(part.source)).part(part.id)
    drawn = [mark for one in (kind.mark_file for kind in KINDS) if one and one.option in files
             for mark in one.read(files[one.option], recording.duration)]  # fmt: skip
    marks = tuple(sorted((*part.marks, *analysis.hits, *drawn), key=lambda m: (m.start, m.id)))
    part = _with_learned(replace(part, marks=marks, leak=analysis.leak), analysis)
    if lead is not None:
        part = beside_the_lead(part, analysis.recording, found, lead, lead.begins(recording), kinds)
        _say_doubts(part, kinds)
    return _only(part, kinds), found


def _lesson(call: argparse.Namespace, settings: dict[str, Any]) -> Lesson | None:
    """What the bleed is to be learned from; bleed that is asked for by name without a cue is the take's own click."""
    named = kind_list("--only", call.only) if call.only is not None else ()
    for kind in KINDS:
        removing, mine = kind.leak_removal, settings[kind.name]
        if removing is None:
            continue
        moments, nudge_s = removing.moments(mine), removing.nudge_s(mine)
        if call.cue:
            return Lesson(tuple(CueFile(spelled(cue), nudge_s) for cue in call.cue), moments)
        if call.own_click or kind.name in named:
            return Lesson((), moments)
    return None


def _warn_of_leak(recording: Recording, lesson: Lesson, leak: Leak | None) -> None:
    """Say which cues are not heard in a recording."""
    if not lesson.cues:
        missing = [] if leak and leak.key else ["no regular click"]
    else:
        heard = leak.cues if leak and leak.key else ()
        names = [path_of(cue.path).name for cue in lesson.cues]
        missing = [f"no leak of {shown(name)}" for name in names if name not in heard]
    name = shown(recording.path.name)
    for what in missing:
        print(f"isophon: {name}: {what} was found in it; nothing of that was taken out", file=sys.stderr)


def _say_doubts(part: Part, kinds: set[str]) -> None:
    """Say what is doubtful in what is found beside the lead."""
    beside = [kind for kind in KINDS if kind.beside_lead.find and kind.name in kinds]
    for doubt in (doubt for kind in beside for doubt in kind.reporter.doubts(part)):
        print(f"isophon: {shown(path_of(part.source.path).name)}: {doubt.words}", file=sys.stderr)


def _with_learned(part: Part, analysis: Analysis) -> Part:
    """A part with what is to be learned from the spans that its settings name."""
    for learning in (kind.span_learning for kind in KINDS if kind.span_learning):
        span = learning.asked(part)
        if span is not None:
            value = learning.learn(analysis.recording, analysis.survey, part, span)
            part = learning.adopt(part, span, value)
    return part


def _only(part: Part, kinds: set[str]) -> Part:
    """A part on which only some kinds are worked."""
    left_out = {name: part.settings(name) for name in NAMES if name not in kinds}
    off = {name: replace(one, on=False) for name, one in left_out.items() if hasattr(one, "on")}
    return replace(part, marks=tuple(m for m in part.marks if m.kind in kinds), **off)


def _progress(call: argparse.Namespace, path: Path) -> Show:
    """Shows what is done with one recording, and how far it is; the log is told when each step begins."""
    silent = call.quiet or not sys.stderr.isatty()
    step = ""

    def show(what: str, fraction: float) -> None:
        nonlocal step
        if what != step:
            step = what
            log.note("%s: %s", shown(path.name), what)
        if not silent:
            end = "\n" if what == "cleaning" and fraction >= 1 else ""
            print(f"\r{shown(path.name)}: {what} {round(100 * fraction):3d} %", end=end, file=sys.stderr, flush=True)

    return show


def _both(tell: Show, show: Show) -> Show:
    def progress(what: str, fraction: float) -> None:
        tell(what, fraction)
        show(what, fraction)

    return progress


def _show_all(count: int, done: int, fraction: float) -> None:
    print(f"\r{done} of {count} recordings, {round(100 * fraction):3d} %", end="", file=sys.stderr, flush=True)
