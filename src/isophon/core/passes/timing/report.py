"""What is reported of words that are lined up."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from isophon.core.passes.kind import Doubt
from isophon.core.passes.timing.mark import WordMark
from isophon.core.passes.timing.treat import edges_of, mapped, moved

if TYPE_CHECKING:
    from isophon.core.session.model import Part


def mark_json(part: Part, mark: WordMark, _with_lead: bool) -> dict[str, Any]:
    """What ``find --json`` tells of a word beside what it tells of any mark."""
    late = None if not mark.anchors else mark.late_ms
    start = mark.anchors[0][0] if mark.anchors else mark.start
    change = 1000 * (moved(part, start) - start)
    return {"late_ms": late, "change_ms": round(change, 1) + 0.0, "partner_s": mark.lead_s, "change_db": 0.0}


def doubts(part: Part) -> list[Doubt]:
    """A part that sings something else than the lead."""
    lined_up = part.measured.lined_up
    return (
        []
        if lined_up is None or lined_up.same
        else [Doubt("does not sing what the lead sings; none of its words is moved")]
    )


def extra_json(part: Part) -> dict[str, Any]:
    """What stands beside the marks: the map."""
    return {"line_up": {"anchors": [list(edge) for edge in edges_of(part)]}}


def row(part: Part) -> dict[str, Any] | None:
    """Its row in the report: how far starts are off in ms, median and 90th percentile, before and after."""
    words = [m for m in part.of(WordMark) if m.anchors and m.confidence >= part.timing.sure]
    lined_up = part.measured.lined_up
    if not words:
        return None if lined_up is None else {"alike": lined_up.alike, "same": lined_up.same}
    edges = edges_of(part)
    starts = np.array([m.anchors[0] for m in words])
    now = np.array(mapped(edges, starts[:, 0]))
    before, after = 1000 * (starts[:, 0] - starts[:, 1]), 1000 * (now - starts[:, 1])
    result: dict[str, Any] = {"alike": lined_up.alike, "same": lined_up.same} if lined_up else {}
    for name, off in (("before", before), ("after", after)):
        result[f"{name}_ms"] = {
            "median": round(float(np.median(off)), 1),
            "off_90": round(float(np.percentile(np.abs(off), 90)), 1),
        }
    return result
