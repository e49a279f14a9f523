"""How many marks deserve a listen because something of the voice may be lost."""

from __future__ import annotations

from collections.abc import Generator, Sequence

from isophon.app.model.passes import Pass
from isophon.app.model.workspace import Workspace
from isophon.core.passes import BY_NAME


def count_risky(workspace: Workspace, passes: Sequence[Pass]) -> Generator[None, None, dict[int, int]]:
    """The risky and undecided marks of all parts by the station of their pass, the first being 1; in steps."""
    counts = dict.fromkeys(range(1, len(passes) + 1), 0)
    for i, which in enumerate(passes, 1):
        risky_from = BY_NAME[which.kind].risk.risky_from
        for part in workspace.session.parts:
            risks = workspace.risks_of(part, which)
            counts[i] += sum(risks.get(mark.id, 0.0) >= risky_from for mark in part.undecided(which.kind))
            yield
    return counts
