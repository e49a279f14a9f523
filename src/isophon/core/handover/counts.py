"""How many marks of each kind there are and change."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from isophon.core.passes import KINDS
from isophon.core.session.model import Part


def kinds(part: Part, without: Collection[str] = ()) -> dict[str, dict[str, Any]]:
    """Each kind's row: how many marks there are and change, by how much in all (dB); and what is done to the whole."""
    rows: dict[str, dict[str, Any]] = {}
    for kind in (kind for kind in KINDS if kind.name not in without):
        row = (_sum(part, kind.name) if kind.mark else {}) | (kind.reporter.row(part) or {})
        if row:
            rows[kind.name] = row
    return rows


def _sum(part: Part, kind: str) -> dict[str, float]:
    marks = part.of_kind(kind)
    changed = [part.change(m) for m in marks if part.acts(m)]
    return {
        "count": len(marks),
        "changed": len(changed),
        "left": len(marks) - len(changed),
        "total_change_db": round(sum(changed), 2),
        "deepest_change_db": round(min(changed, default=0.0), 2),
    }
