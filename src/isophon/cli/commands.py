"""What `isophon find` and `isophon clean` do."""

from __future__ import annotations

import argparse
import dataclasses
import json
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple, cast

from isophon.cli.batch import Outcome, Work, at_once, one_by_one
from isophon.cli.listing import json_values, print_marks
from isophon.cli.options import check_role, kind_list, kinds_of, mark_files, one_setting, settings_of
from isophon.core.audio.files import Recording
from isophon.core.audio.threads import cores
from isophon.core.audio.writing import check_target
from isophon.core.errors import CallError, IsophonError, OutputError, shown
from isophon.core.handover import bundle
from isophon.core.handover.collecting import collect
from isophon.core.handover.report import check_report, write_report
from isophon.core.handover.target import Target, check_free, check_pattern, numbered, outputs
from isophon.core.passes import KINDS, NAMES, Settings
from isophon.core.reading import path_of, spelled
from isophon.core.session import edits, file
from isophon.core.session.cards import load_card
from isophon.core.session.items import Source
from isophon.core.session.model import Part, Role, Session
from isophon.core.work.cleaning import FileRequest, found_in, only
from isophon.core.work.completing import needed
from isophon.core.work.leak_learning import CueFile, Lesson
from isophon.core.work.messages import CleanFile, Failed, HandOver

Show = Callable[[str, float], None]


def find(call: argparse.Namespace) -> int:
    """List the marks found in one recording, or those of a saved session as they were decided."""
    if call.audio.suffix == file.ENDING:
        return _listed_session(call)
    check_role(call)
    kinds, settings = kinds_of(call), settings_of(call, call.role or "lead")
    with Recording(call.audio) as recording:
        found = found_in(recording, _asked(call, call.audio, kinds, settings), _progress(call, call.audio))
    for line in found.warnings:
        print(f"isophon: {shown(line)}", file=sys.stderr)
    part = found.part
    leads = ", ".join(lead.name for lead in call.lead) or None
    result = json_values(part, recording.path.name, found.survey.floor_dbfs, leads, found.survey if call.json else None)
    if call.json:
        print(json.dumps(result, indent=1))
    else:
        print_marks(part, result)
    return 0


def collected(call: argparse.Namespace) -> int:
    """Copy a session with all of its recordings into one folder."""
    session = _loaded(call.session)
    show = _progress(call, call.session)
    print(collect(session, call.session.stem, call.out, partial(show, "copying")))
    return 0


def _listed_session(call: argparse.Namespace) -> int:
    """What a session holds, part by part; its recordings are not read."""
    _refuse_for_sessions(call)
    kinds = kinds_of(call)
    session = _loaded(call.audio)
    rows = []
    for part in session.parts:
        lead = ", ".join(path_of(one.source.path).name for one in session.followed(part)) or None
        ready = only(part, kinds)
        row = json_values(ready, path_of(part.source.path).name, part.floor_dbfs, lead)
        rows.append({"name": part.name, "role": part.role, **row})
        if not call.json:
            print_marks(ready, row)
    if call.json:
        print(json.dumps({"session": session.name, "parts": rows}, indent=1))
    return 0


def _loaded(path: Path) -> Session:
    warnings: list[str] = []
    session = file.load(path, warnings)
    for line in warnings:
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
        raise CallError("--together: only a session says where the song begins and ends; add --session SESSION")
    check_pattern(call.name)
    target = Target(call.out, call.format, call.depth, call.force, call.removed, call.labels,
                             cues=call.cues, proof=call.report, name=call.name, as_loud=call.as_loud)  # fmt: skip
    if call.session:
        session = _loaded(call.session)
        target = dataclasses.replace(target, song=session.name, together=session.span if call.together else None)
    jobs, inputs = _session_jobs(call, kinds) if call.session else _file_jobs(call, kinds)
    rows: list[dict[str, Any]] = []
    if call.whole:
        with bundle.all_or_nothing(target) as made:
            status = _written(call, jobs, inputs, made, rows)
            if status:
                raise OutputError(f"{target.folder}: not everything could be written, so nothing was; see above")
    else:
        status = _written(call, jobs, inputs, target, rows)
    if call.json:
        print(json.dumps({"files": [{n: v for n, v in row.items() if n != "proof"} for row in rows]}, indent=1))
    return status


def _written(call: argparse.Namespace, jobs: list[Job], inputs: list[Path], target: Target,
             rows: list[dict[str, Any]]) -> int:  # fmt: skip
    """Write everything and the report of it; the highest status."""
    check_report(target, inputs)
    try:
        return _all_done(call, _ready(jobs, inputs, target), rows)
    finally:
        if any("error" not in row for row in rows):
            write_report(rows, target.folder, target.song)


class Job(NamedTuple):
    """A stem to be written: the part that it is named after, and what is asked of a worker for a target."""

    part: Part
    work: Callable[[Target], Work]

    @property
    def path(self) -> Path:
        """The recording."""
        return path_of(self.part.source.path)


def _ready(jobs: list[Job], inputs: list[Path], target: Target) -> list[tuple[Path, Work | IsophonError]]:
    """What is to be done with each recording, or why it cannot be; none of them can stop the others."""
    ready: list[tuple[Path, Work | IsophonError]] = []
    taken: dict[Path, Path] = {}
    for row, job in enumerate(jobs, 1):
        mine = numbered(target, row, len(jobs))
        paths = outputs(job.part, mine)
        try:
            for output in paths:
                if output in taken:
                    raise OutputError(
                        f"{job.path}: would write {output.name} as {taken[output]} does; use another --out"
                    )
            check_free(job.part, mine, inputs)
            ready.append((job.path, job.work(mine)))
        except IsophonError as error:
            ready.append((job.path, error))
        taken = dict.fromkeys(paths, job.path) | taken
    return ready


def _all_done(call: argparse.Namespace, ready: list[tuple[Path, Work | IsophonError]],
              rows: list[dict[str, Any]]) -> int:  # fmt: skip
    """Do all works and gather their rows; the highest status of those that failed."""
    works = [work for _, work in ready if not isinstance(work, IsophonError)]
    count = min(call.jobs or cores(), len(works))
    quiet = call.quiet or not sys.stderr.isatty()
    if count < 2:
        outcomes = one_by_one(works, lambda work: _progress(call, _path_of(work)))
    else:
        outcomes = at_once(works, count, None if quiet else partial(_show_all, len(works)), call.lead)
    status = 0
    for path, work in ready:
        outcome = Outcome(None, Failed.of(work)) if isinstance(work, IsophonError) else next(outcomes)
        rows.append(_row(path, outcome))
        status = max(status, outcome.failed.status if outcome.failed else 0)
    return status


def _path_of(work: Work) -> Path:
    named = work.asked.path if isinstance(work, CleanFile) else work.session.part(work.part).source.path
    return path_of(named)


def _row(path: Path, outcome: Outcome) -> dict[str, Any]:
    """A recording's row of the report; what a person ought to know is said."""
    if outcome.cleaned is None:
        failed = outcome.failed
        assert failed is not None, "one of both"
        words = f"{failed.words} (--force)" if failed.exists else failed.words
        print(f"isophon: {shown(words)}", file=sys.stderr)
        return {"file": path.name, "error": words}
    for line in outcome.cleaned.warnings:
        print(f"isophon: {shown(line)}", file=sys.stderr)
    _warn_of_clipping(outcome.cleaned.row)
    return outcome.cleaned.row


def _warn_of_clipping(row: dict[str, Any]) -> None:
    if row["clipped_samples"]:
        warnings = f"{shown(row['output'])}: {row['clipped_samples']} samples were clipped at full scale"
        print(f"isophon: {warnings}; --depth 32f keeps them", file=sys.stderr)


def _refuse_for_sessions(call: argparse.Namespace) -> None:
    """A session says itself what its parts are and what leaked; an option that would not be heeded is refused."""
    for option, given in (("--role", call.role is not None), ("--cue", call.cue), ("--own-click", call.own_click),
                          ("--bed", call.bed), *((f"--{name}", path) for name, path in mark_files(call).items()),
                          ("--lead", call.lead)):  # fmt: skip
        if given:
            raise CallError(f"{option}: stands in the session itself; leave it out, or change it in the session")


def _asked(call: argparse.Namespace, path: Path, kinds: set[str], settings: Settings) -> FileRequest:
    """What a call asks of a recording."""
    files = {option: spelled(file_of) for option, file_of in mark_files(call).items()}
    leads = tuple(map(spelled, call.lead))
    role = cast("Role", call.role or "lead")
    in_order = tuple(name for name in NAMES if name in kinds)
    return FileRequest(spelled(path), role, settings, in_order, _lesson(call, settings), files, leads)


def _file_jobs(call: argparse.Namespace, kinds: set[str]) -> tuple[list[Job], list[Path]]:
    settings = settings_of(call, call.role or "lead")
    inputs = [*call.audio, *call.cue, *((call.bed,) if call.bed else ()), *((call.card,) if call.card else ()),
              *mark_files(call).values(), *call.lead]  # fmt: skip
    jobs = []
    for path in sorted(call.audio, key=lambda path: path_of(spelled(path)).name):
        part = Part("part-1", path.stem, Source(spelled(path), 48_000, 1, 1))
        jobs.append(Job(part, partial(CleanFile, _asked(call, path, kinds, settings))))
    return jobs, inputs


def _session_jobs(call: argparse.Namespace, kinds: set[str]) -> tuple[list[Job], list[Path]]:
    session = _loaded(call.session)
    changes = [one_setting(item) for item in call.set]
    ids = [part.id for part in session.parts]
    session = edits.apply_card(session, ids, load_card(call.card)) if call.card else session
    for kind, setting, value in changes:
        session = edits.set_setting(session, ids, kind, setting, value)
    in_order = tuple(name for name in NAMES if name in kinds)

    def work(part: Part, target: Target) -> Work:
        return HandOver(session=needed(session, part), part=part.id, target=target, kinds=in_order, keep=False)

    inputs = [call.session, *(path_of(item.source.path) for item in session.items)]
    inputs += [call.card] if call.card else []
    return [Job(part, partial(work, part)) for part in session.parts], inputs


def _lesson(call: argparse.Namespace, settings: Settings) -> Lesson | None:
    """What the leak is to be learned from; one that is asked for by name without a cue is the take's own click."""
    named = kind_list("--only", call.only) if call.only is not None else ()
    for kind in KINDS:
        removing, mine = kind.leak_removal, getattr(settings, kind.name)
        if removing is None:
            continue
        if call.cue:
            nudge_s = removing.nudge_s(mine)
            return Lesson(tuple(CueFile(spelled(cue), nudge_s) for cue in call.cue), removing.moments(mine))
        if call.own_click or kind.name in named:
            return Lesson((), removing.moments(mine))
    return None


def _progress(call: argparse.Namespace, path: Path) -> Show:
    """Shows what is done with one recording, and how far it is."""
    silent = call.quiet or not sys.stderr.isatty()

    def show(what: str, fraction: float) -> None:
        if not silent:
            end = "\n" if what in ("cleaning", "copying") and fraction >= 1 else ""
            print(f"\r{shown(path.name)}: {what} {round(100 * fraction):3d} %", end=end, file=sys.stderr, flush=True)

    return show


def _show_all(count: int, done: int, fraction: float) -> None:
    print(f"\r{done} of {count} recordings, {round(100 * fraction):3d} %", end="", file=sys.stderr, flush=True)
