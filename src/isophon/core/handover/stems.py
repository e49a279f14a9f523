"""Hand over: the cleaned stems, what was taken out, the marks and a report."""

from __future__ import annotations

import errno
import itertools
import json
import math
import string
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

import isophon
from isophon.core.audio.chunks import bext, cues
from isophon.core.audio.containers import broadcast_chunk
from isophon.core.audio.converting import converted, converted_frames
from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import Meter, db
from isophon.core.audio.writing import FORMATS, write_stem, write_text
from isophon.core.errors import CallError, ExistsError, InputError, OutputError, shown
from isophon.core.handover.counts import kinds
from isophon.core.handover.observed import Observed
from isophon.core.handover.proof import PROOF, told_of, write_proof
from isophon.core.handover.voice_gain import voice_gain_db
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME
from isophon.core.reading import path_of, read_bytes
from isophon.core.session.layout import file_name
from isophon.core.session.model import Part
from isophon.core.session.notes import Note
from isophon.core.survey import STILL, Survey
from isophon.core.takes.take import renderer_of

REPORT = "report.json"
_FIELDS = ("part", "role", "song", "number")
_SILENT_BLOCK = 1 << 18
_LONGEST_NAME = 180  # bytes, so that what is added to it still fits into a name

Progress = Callable[[float], None]


@dataclass(frozen=True)
class Target:
    """Where stems go and how they are written.

    ``clip``: what is done with a stem that would clip at an integer depth: ``keep`` it, ``refuse`` it,
    ``trim`` it down as a whole, or write it as ``float``. ``without``: kinds whose work is left out. ``cues``:
    marks go into WAVE stems as cue points. ``proof``: rows tell what the proof shows. ``name``: the pattern of file
    names, of ``{part}``, ``{role}``, ``{song}`` and ``{number}``; '' for the recording's own; ``song``: its name;
    ``number``: the part's, see :func:`numbered`.
    ``together``: (start, end) of the song in s, which every stem then has; None: each as its recording. ``as_loud``: a
    gain leaves the voice as loud as it was sung.
    """

    folder: Path
    fmt: str = "wav"
    depth: str = "24"
    force: bool = False
    removed: bool = False
    labels: bool = False
    clip: str = "keep"
    without: tuple[str, ...] = ()
    cues: bool = False
    proof: bool = False
    name: str = ""
    song: str = ""
    together: tuple[float, float] | None = None
    as_loud: bool = False
    number: str = ""


def numbered(target: Target, row: int, rows: int) -> Target:
    """The same target with a part's number: its row among all, from 1, padded so that names sort as the rows."""
    return replace(target, number=f"{row:0{max(2, len(str(rows)))}d}")


@dataclass
class _Figures:
    """Loudness, true peak and floor of a stream of blocks."""

    meter: Meter
    hop: int
    squares: list[np.ndarray] = field(default_factory=list)
    rest: np.ndarray = field(default_factory=lambda: np.zeros(0))

    def add(self, block: np.ndarray) -> None:
        self.meter.add(block)
        power = np.concatenate([self.rest, np.square(block, dtype=np.float64).sum(axis=0)])
        whole = len(power) // self.hop * self.hop
        self.squares.append(power[:whole].reshape(-1, self.hop).mean(axis=1))
        self.rest = power[whole:]

    def result(self, still: np.ndarray) -> dict[str, float]:
        power = np.concatenate(self.squares) if self.squares else np.zeros(0)
        quiet = power[: len(still)][still[: len(power)]]
        if len(quiet) < 10:
            quiet = np.sort(power)[: max(1, len(power) // 20)]
        floor = db(float(np.median(quiet))) if len(quiet) else -120.0
        return {
            "loudness_lufs": round(self.meter.loudness(), 2),
            "true_peak_dbtp": round(self.meter.true_peak(), 2),
            "floor_dbfs": round(max(-120.0, floor), 2),
        }


def check_pattern(pattern: str) -> None:
    """Raise CallError for a pattern of names that says something unknown."""
    try:
        told = [one[1:] for one in string.Formatter().parse(pattern) if one[1] is not None]
    except ValueError as error:
        raise CallError(f"the pattern '{pattern}' cannot be read ({error})") from error
    for name, spec, conversion in told:
        if name not in _FIELDS or spec or conversion:
            known = ", ".join(f"{{{one}}}" for one in _FIELDS)
            raise CallError(f"the pattern '{pattern}' says {{{name}}}; what it can say is {known}")


def stem_name(part: Part, target: Target | None = None) -> str:
    """What a part's files are called: by the target's pattern, else as its recording or as the part was named."""
    source = path_of(part.source.path)
    if target is not None and target.name:
        told = {"part": part.name, "role": part.role, "song": target.song, "number": target.number}
        return _clean(target.name.format(**told)) or source.stem
    if part.name in (source.stem, file_name(part.source.path)):
        return source.stem
    return _clean(part.name) or source.stem


def _clean(name: str) -> str:
    """A name that a file can have and that is no path."""
    name = "".join("_" if c == "/" or not c.isprintable() else c for c in name).strip().lstrip(".")
    return name.encode()[:_LONGEST_NAME].decode(errors="ignore")


def stem_path(name: str, target: Target, what: str = "clean") -> Path:
    """The place of a stem: ``NAME.clean.wav`` in the target folder."""
    return target.folder / f"{name}.{what}{FORMATS[target.fmt]}"


def outputs(part: Part, target: Target) -> list[Path]:
    """All files that handing over one part writes, the report aside."""
    name = stem_name(part, target)
    paths = [stem_path(name, target)]
    if target.removed:
        paths.append(stem_path(name, target, "removed"))
    if target.labels:
        paths.append(target.folder / f"{name}.marks.tsv")
    return paths


def check_free(part: Part, target: Target, inputs: Collection[Path] = ()) -> list[Path]:
    """The outputs of one part; OutputError if one exists and may not be written over, or is one of the ``inputs``.

    CallError where its stem cannot have the length that it needs.
    """
    check_length(part, target)
    paths = outputs(part, target)
    for path in paths:
        _check_free(path, target, (path_of(part.source.path), *inputs))
    return paths


def check_length(part: Part, target: Target) -> None:
    """Raise CallError for a part that has grown past the end of its recording where its stem may not."""
    past_end = part.ends_s - part.source.duration
    if past_end > 0 and target.together is None:
        raise CallError(
            f"{part.name}: a passage that was carried on reaches {past_end:.2f} s past the end of the recording. Let "
            "all stems begin and end with the song (--together), or take that passage back"
        )


def check_report(target: Target, inputs: Collection[Path] = ()) -> None:
    """OutputError if the report would take the place of a file that is an input, or none of ours."""
    path = target.folder / REPORT
    _check_free(path, replace(target, force=True), inputs)
    if target.proof:
        _check_free(target.folder / PROOF, target, inputs)
    if _exists(path) and not target.force and _report_rows(path) is None:
        raise ExistsError(f"{path}: is there already and no report of this program; it was kept. "
                          "Use another folder, or allow writing over it")  # fmt: skip


def _check_free(path: Path, target: Target, inputs: Collection[Path]) -> None:
    if not _exists(path):
        return
    for source in inputs:
        if _exists(source) and path.samefile(source):
            raise OutputError(f"{path}: is one of the inputs, which are never written to; use another folder")
    if not target.force:
        raise ExistsError(f"{path}: exists already and was kept; use another folder, or allow writing over it")


def _exists(path: Path) -> bool:
    try:
        return path.exists()
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or error
        too_long = getattr(error, "errno", 0) == errno.ENAMETOOLONG
        do = "use a shorter name" if too_long else "use another folder, or check its permissions"
        raise OutputError(f"{path}: cannot be written ({why}); {do}") from error


def hand_over(
    part: Part,
    recording: Recording,
    survey: Survey,
    target: Target,
    progress: Progress | None = None,
    rate: int | None = None,
    notes: Sequence[Note] = (),
) -> dict[str, Any]:
    """Write one part's stem and what goes with it; returns its row of the report.

    ``rate``: the sample rate of the stem in Hz, None for the recording's own. ``notes``: go into labels and proof.
    ``progress`` is called with a fraction and may raise to cancel; nothing
    half-written stays then.
    """
    renderer = renderer_of(recording)
    if part.needs_leak and renderer.sounds(part.needs_leak) is None:
        raise InputError(f"{recording.path.name}: what was found of its leak is gone; find the leak again")
    hop = round(survey.hop_s * recording.sample_rate)
    observed = Observed(part, survey) if target.proof else None
    before, after = (_Figures(Meter(recording.sample_rate, recording.channels), hop) for _ in range(2))
    plan, highest, rounds = part.plan_without(target.without), 0.0, 1 + target.removed + target.as_loud
    length = recording.frames if target.together is None else renderer.frames_of(plan)

    def as_sung() -> Iterator[np.ndarray]:
        return itertools.chain(recording.blocks(), _silence(recording.channels, length - recording.frames))

    def rendered(earlier: int) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        """As sung and cleaned, telling how far it is; ``earlier``: rounds that were done before."""
        done = 0
        for sung, clean in renderer.blocks(plan, as_sung()):
            done += sung.shape[1]
            if progress:
                progress((earlier + done / length) / rounds)
            yield sung, clean

    gain_db = voice_gain_db(part, survey, rendered(0)) if target.as_loud else 0.0
    voice_gain = np.float32(10 ** (gain_db / 20))

    def cleaned() -> Iterator[np.ndarray]:
        nonlocal highest
        for sung, clean in rendered(int(target.as_loud)):
            clean = clean if voice_gain == 1 else voice_gain * clean
            before.add(sung)
            after.add(clean)
            if observed is not None:
                observed.add(sung, clean)
            highest = max(highest, float(np.abs(clean).max(initial=0.0)))
            yield clean

    def taken_out() -> Iterator[np.ndarray]:
        return (sung - clean for sung, clean in rendered(rounds - 1))

    rate = rate or recording.sample_rate
    frames = converted_frames(length, recording.sample_rate, rate)
    before_it, whole = _placed(part, target, rate, frames)
    shape = (rate, recording.channels, whole)
    chunks = _chunks(part, recording, rate, target, before_it, notes)
    how: dict[str, Any] = {"fmt": target.fmt, "depth": target.depth, "force": target.force, "chunks": chunks}

    def at_rate(blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        stem = converted(blocks, recording.sample_rate, rate, recording.channels, frames)
        return stem if whole == frames else _padded(stem, recording.channels, before_it, whole)

    name = stem_name(part, target)
    stem, trim_db = stem_path(name, target), 0.0
    clipped = write_stem(stem, at_rate(cleaned()), *shape, **how, may_clip=target.clip == "keep")
    if clipped and target.clip == "refuse":
        raise OutputError(f"{name}: would clip {clipped} samples, by up to {db(highest**2):.1f} dB; it was not "
                          "written. Turn it down as a whole, or hand it over as 32-bit float")  # fmt: skip
    if clipped and target.clip != "keep":
        # converting to another rate may overshoot a little more
        trim_db = -math.ceil(10 * db(highest**2) + 1 + 2 * (rate != recording.sample_rate)) / 10
        trim_db = 0.0 if target.clip == "float" else trim_db
        how |= {"depth": "32f"} if target.clip == "float" else {}
        gain = voice_gain * np.float32(10 ** (trim_db / 20))
        again = (gain * clean for _, clean in renderer.blocks(plan, as_sung()))
        clipped = write_stem(stem, at_rate(again), *shape, **how)
    if target.removed:
        write_stem(stem_path(name, target, "removed"), at_rate(taken_out()), *shape, **how)
    if target.labels:
        write_text(target.folder / f"{name}.marks.tsv", labels(part, before_it / rate, notes), target.force)
    still = survey.state == STILL
    return {
        "file": recording.path.name,
        "output": stem.name,
        "role": part.role,
        "sample_rate": shape[0],
        "channels": shape[1],
        "frames": shape[2],
        "clipped_samples": clipped,
        "trim_db": trim_db,
        "voice_gain_db": gain_db,
        "depth": how["depth"],
        "voice_lufs": part.voice_lufs,
        "before": before.result(still),
        "after": {name: round(value + trim_db, 2) for name, value in after.result(still).items()},
        "kinds": kinds(part, target.without),
        **_proven(part, observed, target, notes),
    }


def _proven(part: Part, observed: Observed | None, target: Target, notes: Sequence[Note]) -> dict[str, Any]:
    """What the proof shows of a part, where it is wanted."""
    if observed is None:
        return {}
    return {"proof": told_of(part, observed.result(), target.without, observed.maps.pictures(), notes)}


def _placed(part: Part, target: Target, rate: int, frames: int) -> tuple[int, int]:
    """How many frames of silence stand before a stem, and how many it has in all."""
    if target.together is None:
        return 0, frames
    start, end = target.together
    before_it = max(0, round((part.offset_s - start) * rate))
    return before_it, max(before_it + frames, math.ceil((end - start) * rate - 1e-6))


def _padded(blocks: Iterator[np.ndarray], channels: int, before_it: int, whole: int) -> Iterator[np.ndarray]:
    """Blocks with silence before and after them, ``whole`` frames in all."""
    left = whole
    for block in itertools.chain(_silence(channels, before_it), blocks):
        left -= block.shape[1]
        yield block
    yield from _silence(channels, left)


def _silence(channels: int, frames: int) -> Iterator[np.ndarray]:
    for at in range(0, frames, _SILENT_BLOCK):
        yield np.zeros((channels, min(_SILENT_BLOCK, frames - at)), np.float32)


def _chunks(
    part: Part, recording: Recording, rate: int, target: Target, before_it: int = 0, notes: Sequence[Note] = ()
) -> bytes:
    """What a WAVE stem says beside its samples: where it began, what was done, and on request its marks."""
    began = part.source.time_reference or recording.time_reference or 0
    made = datetime.fromtimestamp(recording.path.stat().st_mtime)
    done = [f"A=PCM,F={rate},W={target.depth.removesuffix('f')},M={'mono' if recording.channels == 1 else 'stereo'},"
            f"T=Isophon {isophon.__version__}"]  # fmt: skip
    rows = kinds(part, target.without)
    done += [f"T=Isophon {name}: {row['changed']} of {row['count']} changed" for name, row in rows.items()
             if row.get("changed")]  # fmt: skip
    first = max(0, round(began * rate / recording.sample_rate) - before_it)
    told = bext(f"{part.name}, cleaned", first, made, done, broadcast_chunk(recording.path) or b"")
    if not target.cues:
        return told
    places = []
    told_marks = ((m.span, " ".join(filter(None, (m.kind, _label(m), f"{part.change(m):.1f} dB"))))
                  for m in part.marks if _is_told(part, m))  # fmt: skip
    for span, words in (*told_marks, *_note_rows(notes)):
        start, end = map(part.heard_at, span)
        what = shown(words)
        places.append((before_it + max(0, round(start * rate)), max(1, round((end - start) * rate)), what))
    return told + cues(places)


def labels(part: Part, later_s: float = 0.0, notes: Sequence[Note] = ()) -> str:
    """The marks and notes as tab-separated lines: start, end, what; any editor's label track reads them."""
    lines = list(_note_rows(notes))
    for mark in (m for m in part.marks if _is_told(part, m)):
        name = f"{mark.kind} {_label(mark)}".strip()
        words = f"{name} {mark.standout_db:+.1f} dB over the voice, change {part.change(mark):.1f} dB"
        lines.append((mark.span, words))
    rows = []
    for span, words in sorted(lines):
        start, end = (part.heard_at(t) + later_s for t in span)
        rows.append(f"{start:.6f}\t{end:.6f}\t{shown(words)}")
    return "\n".join(rows) + ("\n" if rows else "")


def _note_rows(notes: Sequence[Note]) -> Iterator[tuple[tuple[float, float], str]]:
    return (((note.start, note.end), f"{'note' if note.kind else 'place'}: {note.words}") for note in notes)


def _is_told(part: Part, mark: Mark) -> bool:
    kind = BY_NAME[mark.kind]
    told = kind.reporter
    return told.in_time and kind.cure.maps is None and (not told.if_changed or part.acts(mark))


def _label(mark: Mark) -> str:
    return BY_NAME[mark.kind].reporter.label(mark)


def write_report(rows: list[dict[str, Any]], folder: Path, title: str = "") -> None:
    """Write ``report.json`` into a folder, and ``report.html`` where rows tell of it.

    Rows of other stems that lie there from before stay.
    """
    path = folder / REPORT
    mine = {row.get("output", row["file"]) for row in rows}
    before = [row for row in _report_rows(path) or [] if row.get("output", row["file"]) not in mine]
    told = [{name: value for name, value in row.items() if name != "proof"} for row in rows]
    write_text(path, json.dumps({"files": before + told}, indent=1) + "\n")
    if any("proof" in row for row in rows):
        write_proof(rows, folder, title or "Hand over")


def _report_rows(path: Path) -> list[dict[str, Any]] | None:
    """The rows of a report that was written before, None where a file is no such report."""
    try:
        rows = json.loads(read_bytes(path))["files"]
    except (InputError, ValueError, KeyError, TypeError, RecursionError):
        return None
    ours = isinstance(rows, list) and all(isinstance(row, dict) and isinstance(row.get("file"), str) for row in rows)
    return rows if ours else None
