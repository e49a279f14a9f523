"""The history: what an edit of a part with very many marks takes, and what many steps take to keep and to open again.

Usage: .venv/bin/python bench/history.py [MARKS [STEPS]]
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import common
import numpy as np

from isophon.core.passes import BY_NAME
from isophon.core.session import adopting, edits
from isophon.core.session.facts import with_findings
from isophon.core.session.history import History
from isophon.core.session.items import Source
from isophon.core.session.journal import Journal, replay
from isophon.core.session.model import Part, Session

_KINDS = ("ess", "breath", "tick", "gap")


def _part(count: int) -> Part:
    kinds = [_KINDS[i % len(_KINDS)] for i in range(count)]
    marks = tuple(BY_NAME[kind].mark(f"{kind}-{i}", 0.1 * i, 0.1 * i + 0.05, -20.0, 5.0, 5_000.0, 9_000.0, 1.0)
                  for i, kind in enumerate(kinds))  # fmt: skip
    return Part("part-1", "Lead", Source("/lead.wav", 48_000, 1, 4_800 * (count + 1)), marks=marks, found=True,
                voice_lufs=-20.0, floor_dbfs=-70.0)  # fmt: skip


def _edited(session: Session, i: int) -> Session:
    """A mark left as sung, the ceiling moved, a mark agreed to, in turn."""
    marks = session.parts[0].marks
    if i % 3 == 0:
        return edits.leave(session, "part-1", [marks[7 * i % len(marks)].id], True)
    if i % 3 == 1:
        return edits.set_setting(session, ["part-1"], "ess", "ceiling_db", -2.0 - 0.01 * i)
    return edits.agree(session, "part-1", [marks[13 * i % len(marks)].id])


def main(count: int, steps: int) -> None:
    part = _part(count)
    history = History(Session("bench", (part,)))
    history.session.parts[0].prepare()
    before, times = common.resident_mb(), []
    with tempfile.TemporaryDirectory() as folder:
        journal = Journal(Path(folder) / "a.journal", history, None)
        for i in range(steps):
            began = time.perf_counter()
            history.do(f"step {i}", _edited(history.session, i))
            history.session.parts[0].prepare()
            times.append(1000 * (time.perf_counter() - began))
            journal.write(history)
        kept = common.resident_mb() - before
        print(f"an edit of {count} marks: {np.median(times):.1f} ms, {np.percentile(times, 95):.1f} at the 95th "
              f"percentile  (aim: 10); {steps} of them keep {kept:.0f} MB  (aim: 100)")  # fmt: skip
        began = time.perf_counter()
        replay(journal.path)
        print(f"opening the journal again: {time.perf_counter() - began:.2f} s  (aim: 0.5)")
    found = adopting.Findings(part.source, part.marks, -20.0, -70.0)
    began = time.perf_counter()
    history.add_facts(lambda session, facts: with_findings(session, facts, [("part-1", found)]))
    print(f"a part that is found anew: {1000 * (time.perf_counter() - began):.0f} ms  (aim: 50)")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5_000, int(sys.argv[2]) if len(sys.argv) > 2 else 500)
