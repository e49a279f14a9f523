"""What was found in a part, told as values for machines or as lines for people."""

from __future__ import annotations

from typing import Any

from isophon.core.errors import shown
from isophon.core.marks import Mark
from isophon.core.passes import BY_NAME, KINDS
from isophon.core.session.model import Part


def told_of(part: Part, name: str, floor_dbfs: float | None, lead: str | None) -> dict[str, Any]:
    """All that ``find --json`` tells of a part; with the name of a ``lead`` also what its marks meet in that."""
    source = part.source
    return {
        "file": name,
        "sample_rate": source.sample_rate,
        "channels": source.channels,
        "duration_s": round(source.duration, 6),
        "voice_lufs": part.voice_lufs,
        "floor_dbfs": floor_dbfs,
        "marks": [_row(part, mark, lead is not None) for mark in _listed(part)],
        "bands": [row for kind in KINDS for row in kind.rows(part)],
        **{name: {"lead": lead, **value} for kind in KINDS for name, value in kind.adds(part).items() if lead},
        **{kind.name: kind.report(part) for kind in KINDS if kind.learned or not kind.marked},
    }


def _row(part: Part, mark: Mark, with_lead: bool = False) -> dict[str, Any]:
    row = {
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
    row |= {"sound": mark.sound} if mark.sound else {}
    if with_lead and BY_NAME[mark.kind].meets:
        late = None if mark.partner_s is None else round(1000 * (mark.start - mark.partner_s), 1)
        row |= {"partner_s": mark.partner_s, "late_ms": late}
    return row | BY_NAME[mark.kind].tells(part, mark)


def _listed(part: Part) -> list[Mark]:
    """The marks that have a place in time, words to which nothing is done aside."""
    kinds = ((mark, BY_NAME[mark.kind]) for mark in part.marks)
    return [mark for mark, kind in kinds if kind.placed and (not kind.quiet or part.change(mark) or mark.hand.any)]


def print_marks(part: Part, result: dict[str, Any]) -> None:
    """The same as lines."""
    floor = "not looked through yet" if part.floor_dbfs is None else f"floor {part.floor_dbfs:.1f} dBFS"
    voice = "no voice" if part.voice_lufs is None else f"voice {part.voice_lufs:.1f} LUFS"
    print(f"{shown(result['file'])}: {result['duration_s']:.1f} s, {voice}, {floor}")
    for kind in KINDS:
        if told := kind.told(part):
            print(shown(told))
    marks = _listed(part)
    print(f"{len(marks)} marks" + (":  start s    end s  kind  over the voice   change" if marks else ""))
    for mark in marks:
        print(
            f"{mark.start:16.3f} {mark.end:8.3f}  {mark.kind:4s}  {mark.standout_db:+11.1f} dB"
            f" {part.change(mark):5.1f} dB"
        )
