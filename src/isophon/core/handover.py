"""Hand over: the cleaned stems, what was taken out, the marks and a report."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from isophon.core import takes
from isophon.core.audio.converting import converted, converted_frames
from isophon.core.audio.files import Recording
from isophon.core.audio.loudness import Meter, db
from isophon.core.audio.writing import FORMATS, write_stem, write_text
from isophon.core.errors import InputError, OutputError
from isophon.core.render import Renderer
from isophon.core.session.model import Part
from isophon.core.survey import STILL, Survey

Progress = Callable[[float], None]


@dataclass(frozen=True)
class Target:
    """Where stems go and how they are written."""

    folder: Path
    fmt: str = "wav"
    depth: str = "24"
    force: bool = False
    removed: bool = False
    labels: bool = False


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
        quiet = power[still[: len(power)]]
        if len(quiet) < 10:
            quiet = np.sort(power)[: max(1, len(power) // 20)]
        floor = db(float(np.median(quiet))) if len(quiet) else -120.0
        return {
            "loudness_lufs": round(self.meter.loudness(), 2),
            "true_peak_dbtp": round(self.meter.true_peak(), 2),
            "floor_dbfs": round(max(-120.0, floor), 2),
        }


def stem_path(source: Path, target: Target, what: str = "clean") -> Path:
    """The name of a stem: ``NAME.clean.wav`` in the target folder."""
    return target.folder / f"{source.stem}.{what}{FORMATS[target.fmt]}"


def outputs(source: Path, target: Target) -> list[Path]:
    """All files that handing over one recording writes, the report aside."""
    paths = [stem_path(source, target)]
    if target.removed:
        paths.append(stem_path(source, target, "removed"))
    if target.labels:
        paths.append(target.folder / f"{source.stem}.marks.tsv")
    return paths


def check_free(source: Path, target: Target) -> list[Path]:
    """The outputs of one recording; OutputError if one exists and may not be written over."""
    paths = outputs(source, target)
    for path in paths:
        if path.exists() and source.exists() and path.samefile(source):
            raise OutputError(f"{path}: is the recording itself, which is never written to; use another folder")
        if path.exists() and not target.force:
            raise OutputError(f"{path}: exists already; it was kept (use --force to write over it)")
    return paths


def hand_over(
    part: Part,
    recording: Recording,
    survey: Survey,
    target: Target,
    progress: Progress | None = None,
    rate: int | None = None,
) -> dict[str, Any]:
    """Write one part's stem and what goes with it; returns its row of the report.

    ``rate``: the sample rate of the stem in Hz, None for the recording's own.
    ``progress`` is called with a fraction and may raise to cancel; nothing
    half-written stays then.
    """
    place = takes.place_of(recording.path)
    shape = recording.sample_rate, recording.frames
    renderer = Renderer(recording.read, *shape, leaks=lambda key: takes.kept_leak(place, key))
    if part.leak and part.leak.key and part.bleed.on and renderer.leaks(part.leak.key) is None:
        raise InputError(f"{recording.path.name}: what was learned of its bleed is not kept any more; learn it again")
    hop = round(survey.hop_s * recording.sample_rate)
    before = _Figures(Meter(recording.sample_rate, recording.channels), hop)
    after = _Figures(Meter(recording.sample_rate, recording.channels), hop)
    plan = part.plan

    def cleaned() -> Iterator[np.ndarray]:
        done = 0
        for sung, clean in renderer.blocks(plan, recording.blocks()):
            before.add(sung)
            after.add(clean)
            done += sung.shape[1]
            if progress:
                progress(done / recording.frames)
            yield clean

    def removed() -> Iterator[np.ndarray]:
        return (sung - clean for sung, clean in renderer.blocks(plan, recording.blocks()))

    rate = rate or recording.sample_rate
    frames = converted_frames(recording.frames, recording.sample_rate, rate)
    shape = (rate, recording.channels, frames)
    how = {"fmt": target.fmt, "depth": target.depth, "force": target.force}

    def at_rate(blocks: Iterator[np.ndarray]) -> Iterator[np.ndarray]:
        return converted(blocks, recording.sample_rate, rate, recording.channels, frames)

    clipped = write_stem(stem_path(recording.path, target), at_rate(cleaned()), *shape, **how)
    if target.removed:
        write_stem(stem_path(recording.path, target, "removed"), at_rate(removed()), *shape, **how)
    if target.labels:
        write_text(target.folder / f"{recording.path.stem}.marks.tsv", labels(part), target.force)
    still = survey.state == STILL
    return {
        "file": recording.path.name,
        "output": stem_path(recording.path, target).name,
        "role": part.role,
        "sample_rate": shape[0],
        "channels": shape[1],
        "frames": shape[2],
        "clipped_samples": clipped,
        "voice_lufs": part.voice_lufs,
        "before": before.result(still),
        "after": after.result(still),
        "kinds": kinds(part),
    }


def kinds(part: Part) -> dict[str, dict[str, float]]:
    """How many marks of each kind there are and change, by how much in all (dB); and what is done to the whole."""
    rows: dict[str, dict[str, float]] = {
        kind: _sum(part, kind) for kind in ("bleed", "gap", "pop", "tick", "breath", "ess")
    }
    if part.low_cut_hz is not None:
        rows["rumble"] = {"cut_hz": part.low_cut_hz, "slope": part.rumble.slope}
    if part.leak is not None:
        rows["bleed"] |= {"found": bool(part.leak.key), "delay_s": part.leak.delay_s, "less_db": part.leak.less_db}
    if part.hum.on and (hum := part.facts.hum) is not None:
        rows["hum"] = {"base_hz": hum.base_hz, "partials": len(hum.partials), "level_dbfs": round(hum.level_db, 1)}
    if part.hiss.on and part.noise:
        rows["hiss"] = {"level_dbfs": part.hiss_level, "change_db": part.hiss.amount_db, "from_hz": part.hiss.from_hz}
    return rows


def _sum(part: Part, kind: str) -> dict[str, float]:
    changes = [part.change(m) for m in part.marks if m.kind == kind]
    changed = [c for c in changes if c < 0]
    return {
        "count": len(changes),
        "changed": len(changed),
        "left": len(changes) - len(changed),
        "total_change_db": round(sum(changed), 2),
        "deepest_change_db": round(min(changed, default=0.0), 2),
    }


def labels(part: Part) -> str:
    """The marks as tab-separated lines: start, end, what; any editor's label track reads them."""
    rows = []
    for mark in part.marks:
        start, end = mark.span
        change = part.change(mark)
        what = f"{mark.kind} {mark.standout_db:+.1f} dB over the voice, change {change:.1f} dB"
        rows.append(f"{start:.6f}\t{end:.6f}\t{what}")
    return "\n".join(rows) + ("\n" if rows else "")


def write_report(rows: list[dict[str, Any]], folder: Path) -> None:
    """Write ``report.json`` into a folder; rows of other stems that lie there from before stay."""
    path = folder / "report.json"
    files = {row["file"] for row in rows}
    try:
        before = [row for row in json.loads(path.read_text(encoding="utf-8"))["files"] if row["file"] not in files]
    except (OSError, ValueError, KeyError, TypeError):
        before = []
    write_text(path, json.dumps({"files": before + rows}, indent=1) + "\n")
