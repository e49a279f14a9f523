"""What was found in a part, as values for machines or as lines for people."""

from __future__ import annotations

from typing import Any

from isophon.core.errors import shown
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME, KINDS
from isophon.core.session.audible import audible_db
from isophon.core.session.model import Part
from isophon.core.survey import Survey


def json_values(
    part: Part, name: str, floor_dbfs: float | None, lead: str | None, survey: Survey | None = None
) -> dict[str, Any]:
    """All that ``find --json`` tells of a part.

    With the name of a ``lead`` also what its marks meet in that, with the ``survey`` of its take how audible they are.
    """
    source = part.source
    extra = [item for kind in KINDS for item in kind.reporter.extra_json(part).items()]
    return {
        "file": name,
        "sample_rate": source.sample_rate,
        "channels": source.channels,
        "duration_s": round(source.duration, 6),
        "voice_lufs": part.voice_lufs,
        "floor_dbfs": floor_dbfs,
        "marks": sorted(
            (row for mark in _listed(part) for row in _rows(part, mark, lead is not None, survey)),
            key=lambda row: row["start_s"],
        ),
        "bands": [row for kind in KINDS for row in kind.reporter.steady_json(part)],
        **{name: {"lead": lead, **value} for name, value in extra if lead},
        **{kind.name: kind.reporter.row(part) for kind in KINDS if not (kind.mark and kind.found_in_take)},
    }


def _rows(part: Part, mark: Mark, with_lead: bool, survey: Survey | None) -> list[dict[str, Any]]:
    """What is said of a mark, in a row or in several."""
    reporter = BY_NAME[mark.kind].reporter
    row = _row(part, mark) | reporter.mark_json(part, mark, with_lead)
    audible = audible_db(part, mark, survey) if survey is not None and part.change(mark) else None
    if audible is not None:
        row["audible_db"] = audible
    return [row | own for own in reporter.rows(part, mark)]


def _row(part: Part, mark: Mark) -> dict[str, Any]:
    return {
        "kind": mark.kind,
        "start_s": mark.start,
        "end_s": mark.end,
        "level_db": mark.level_db,
        "standout_db": mark.standout_db,
        "change_db": round(part.change(mark), 2),
        "confidence": mark.confidence,
        "low_hz": mark.low_hz,
        "high_hz": mark.high_hz,
    }


def _listed(part: Part) -> list[Mark]:
    """The marks that have a place in time, words to which nothing is done aside."""
    reported = ((mark, BY_NAME[mark.kind].reporter) for mark in part.marks)
    return [mark for mark, by in reported if by.in_time and (not by.if_changed or part.change(mark) or mark.hand.any)]


def print_marks(part: Part, result: dict[str, Any]) -> None:
    """The same as lines."""
    floor = "not looked through yet" if part.floor_dbfs is None else f"floor {part.floor_dbfs:.1f} dBFS"
    voice = "no voice" if part.voice_lufs is None else f"voice {part.voice_lufs:.1f} LUFS"
    print(f"{shown(result['file'])}: {result['duration_s']:.1f} s, {voice}, {floor}")
    for kind in KINDS:
        if summary := kind.reporter.summary(part):
            print(shown(summary))
    marks = _listed(part)
    print(f"{len(marks)} marks" + (":  start s    end s  kind  over the voice   change" if marks else ""))
    for mark in marks:
        decision = BY_NAME[mark.kind].decision
        print(
            f"{mark.start:16.3f} {mark.end:8.3f}  {mark.kind:4s}  {decision.height(mark):+11.1f} {decision.unit}"
            f" {part.change(mark):5.1f} {decision.unit}"
        )
