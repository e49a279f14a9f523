"""The report of a hand-over: ``report.json``, and the proof where it is wanted."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import replace
from pathlib import Path
from typing import Any

from isophon.core.atomic import write_text
from isophon.core.errors import ExistsError, InputError
from isophon.core.handover.proof import PROOF, write_proof
from isophon.core.handover.target import Target, check_not_there, exists
from isophon.core.reading import read_bytes

REPORT = "report.json"


def check_report(target: Target, inputs: Collection[Path] = ()) -> None:
    """OutputError if the report would take the place of a file that is an input, or none of ours."""
    path = target.folder / REPORT
    check_not_there(path, replace(target, force=True), inputs)
    if target.proof:
        check_not_there(target.folder / PROOF, target, inputs)
    if exists(path) and not target.force and _report_rows(path) is None:
        raise ExistsError(f"{path}: is there already and no report of this program; it was kept. "
                          "Use another folder, or allow writing over it")  # fmt: skip


def write_report(rows: list[dict[str, Any]], folder: Path, title: str = "") -> None:
    """Write ``report.json`` into a folder, and ``report.html`` where rows tell of it.

    Rows of other stems that lie there from before stay.
    """
    path = folder / REPORT
    mine = {row.get("output", row["file"]) for row in rows}
    before = [row for row in _report_rows(path) or [] if row.get("output", row["file"]) not in mine]
    without_proof = [{name: value for name, value in row.items() if name != "proof"} for row in rows]
    write_text(path, json.dumps({"files": before + without_proof}, indent=1) + "\n")
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
