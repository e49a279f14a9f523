"""The Line-up sheet: words of the stack against the lead's, in ms."""

from __future__ import annotations

from functools import partial
from operator import attrgetter
from typing import Any

import numpy as np
from PySide6.QtWidgets import QCheckBox, QPushButton

from isophon.app import theme
from isophon.app.model.passes import (
    SURE,
    Ceiling,
    Controls,
    HandTools,
    Knob,
    LensView,
    Pass,
    SkylineView,
    TraceView,
    Words,
)
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.before_after import BeforeAfter
from isophon.app.sheets.carrying import Carrying
from isophon.app.sheets.extras import Extras
from isophon.app.sheets.timing_threads import draw_threads
from isophon.app.translation import tr
from isophon.app.views.labels import Label
from isophon.app.views.made import make_column, make_row
from isophon.app.views.ticked import Ticked
from isophon.core.passes.timing import anchors
from isophon.core.passes.timing.mark import WordMark
from isophon.core.passes.timing.report import row
from isophon.core.passes.timing.treat import edges_of, goes_whole, mapped
from isophon.core.session import edits, layout
from isophon.core.session.model import Part
from isophon.core.takes.pictures import Axis

_AXIS = Axis(100.0, 10_000.0)
_FOLLOWS, _ALL_LEADS = 170, ""


class LineUpExtras(Extras):
    """Whether words are moved, whether their ends are too, and how far the stack is out, before and after."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.on = QCheckBox(tr("line up"))
        self.on.setToolTip("Words that start or end too early or too late are moved to the lead’s")
        self.on.clicked.connect(lambda on: workspace.settings.set_of_kind("timing", "on", on))
        self.ends = QCheckBox(tr("ends of words too"))
        self.ends.setToolTip("Line up where words end, not only where they begin")
        self.ends.clicked.connect(lambda on: workspace.settings.set_of_kind("timing", "ends", on))
        self.all = QPushButton(tr("All of the stack"))
        self.all.setToolTip("Line up all doubles and harmonies with the lead")
        self.all.clicked.connect(self._all)
        self.follows = Ticked(self._followed, _FOLLOWS)
        self.follows.setAccessibleName(tr("the parts that this one follows"))
        self.follows.setToolTip("Words and esses go by these; of several, at each moment by the one that sings")
        self.follows.toggled_one.connect(self._follow)
        self.words = Label("", objectName="soft")
        self.carrying = Carrying(workspace)
        row = make_row()
        row.addWidget(self.on)
        row.addWidget(self.ends)
        row.addStretch()
        column = make_column(self, around=(0, 0, 0, 4))
        column.addLayout(row)
        below = make_row()
        below.addWidget(Label(tr("follows"), objectName="soft"))
        below.addWidget(self.follows, 1)
        column.addLayout(below)
        column.addWidget(self.carrying)
        column.addWidget(self.all)
        column.addWidget(self.words)

    def _all(self) -> None:
        stack = [p.id for p in self.workspace.session.parts if p.role in ("double", "harmony")]
        self.workspace.edit("line up the stack", lambda s: edits.set_setting(s, stack, "timing", "on", True))

    def _followed(self) -> list[tuple[str, str, bool]]:
        """The parts that can be followed, and whether this one does."""
        part, session = self.workspace.part, self.workspace.session
        leads = len(session.leads)
        everyone = "all leads, by time" if leads > 1 else "the lead"
        others = [one for one in session.parts if one.id != part.id and (one.role != "lead" or leads > 1)]
        return [(_ALL_LEADS, everyone, not part.follows_ids),
                *((one.id, one.name, one.id in part.follows_ids) for one in others)]  # fmt: skip

    def _follow(self, name: str) -> None:
        workspace = self.workspace
        now = workspace.part.follows_ids
        chosen = () if name == _ALL_LEADS else tuple(one for one in now if one != name)
        chosen = chosen if name in (*now, _ALL_LEADS) else (*chosen, name)
        who = ", ".join(p.name for p in workspace.session.parts if p.id in chosen) or "all leads"
        workspace.edit(f"follow {who}", partial(layout.set_follows, part_id=workspace.part.id, other_ids=chosen))

    def show_part(self) -> None:
        """Show the selected part."""
        part, session = self.workspace.part, self.workspace.session
        follows = part.role != "lead" and bool(part.of_kind("timing"))
        self.on.setChecked(part.timing.on)
        self.ends.setChecked(part.timing.ends)
        for widget in (self.on, self.ends):
            widget.setEnabled(follows)
        self.follows.show_rows()
        self.follows.setEnabled(part.role != "lead")
        self.all.setEnabled(any(p.role in ("double", "harmony") and not p.timing.on for p in session.parts))
        words, more = _words_of(part, self.workspace)
        self.words.setText(tr(words))
        self.words.setToolTip(more)


def _words_of(part: Part, workspace: Workspace) -> tuple[str, str]:
    """How late this part and the whole stack are, before and after, in words; and more of it, a part a line."""
    rows = {p.id: (p.name, r) for p in workspace.session.parts if p.of_kind("timing") and (r := row(p))}
    rows = {name: row for name, row in rows.items() if "before_ms" in row[1]}
    words = []
    if part.id in rows:
        words.append(f"Median {_medians([rows[part.id][1]])}")
    if len(rows) > 1:
        words.append(f"the stack {_medians([row for _, row in rows.values()])}")
    more = (f"{name}: starts of words as sung → lined up: median {_medians([row])}; nine in ten within "
            f"{row['before_ms']['off_90']:.0f} → {row['after_ms']['off_90']:.0f} ms"
            for name, row in rows.values())  # fmt: skip
    return "; ".join(words), "\n".join(more)


def _medians(rows: list[dict[str, Any]]) -> str:
    before, after = (float(np.median([row[name]["median"] for row in rows])) for name in ("before_ms", "after_ms"))
    return f"{theme.signed(before, 0)} → {theme.signed(after, 0)} ms"


def _ceilings(part: Part) -> list[Ceiling]:
    return [("late_ms", "late allowed", part.timing.late_ms, True),
            ("early_ms", "early allowed", -part.timing.early_ms, True)]  # fmt: skip


def _empty(part: Part) -> str:
    lined_up = part.measured.lined_up
    if part.role == "lead":
        return "The lead is what the others follow. Select a part of the stack."
    if lined_up is None:
        return "The words appear here once this part was compared with the lead."
    if not lined_up.same:
        return "This part does not sing what the lead sings; nothing of it is moved."
    return ""


def _warning(workspace: Workspace, mark: WordMark) -> str:
    part = workspace.part
    if not mark.anchors or mark.confidence < part.timing.sure:
        return "Nothing in the lead is like this word; it is not moved."
    if goes_whole(mark, part):
        return "The lead holds this word more than a fifth longer or shorter: it is moved in one piece, not stretched."
    start = mark.anchors[0][0]
    moved = 1000 * (part.heard_at(start) - start)
    if abs(moved - part.change(mark)) > 3:
        return f"It is moved by {theme.signed(moved, 0)} ms only: what is beside it can be stretched no further."
    return ""


def _about(part: Part) -> str:
    lined_up = part.measured.lined_up
    return "" if lined_up is None else f"{100 * lined_up.alike:.0f} % like the lead"


class Lateness(BeforeAfter):
    """How late the words of the part start, as sung and lined up."""

    kind, unit, after = "timing", "ms", "lined up"
    nothing = "No word of this part is compared with a lead."
    words = "How late each word starts against the lead, as sung and lined up; the line is the target"

    def values(self, part: Part) -> tuple[np.ndarray, np.ndarray]:
        """Lateness of starts in ms."""
        words = [mark for mark in part.of(WordMark) if mark.anchors]
        before = np.array([mark.late_ms for mark in words])
        starts = [mark.anchors[0][0] for mark in words]
        return before, before + 1000 * (np.array(mapped(edges_of(part), starts)) - np.array(starts))

    def lines(self, part: Part) -> list[tuple[float, str]]:
        """Where words are to start."""
        return [(part.timing.land_ms, "target")] if part.timing.on else []


PASS = Pass(
    "timing",
    "Line-up",
    theme.word_shape,
    also=("carry",),
    words=Words(
        one="word",
        many="words",
        first_look="Bars are words that come early or late. Drag the limits; {hear} plays them with the lead.",
        over_what=" in ms after the lead’s",
        over="after the lead",
        gone=lambda _part: "",
        change_words=lambda _mark, change: f"moved {theme.signed(change, 0)} ms" if change else "stays",
        warning=_warning,
        about=_about,
        empty=_empty,
    ),
    controls=Controls(
        knobs=(
            Knob("late_ms", "Late allowed", 1, "ms", "A word that starts this late or less is not moved"),
            Knob("early_ms", "Early allowed", 1, "ms", "A word that starts this early or less is not moved"),
            Knob(
                "land_ms",
                "Target",
                1,
                "ms",
                "How long after the lead’s a moved word starts; slightly late is better than early",
            ),
            Knob("most_ms", "Furthest move", 5, "ms", "No word is moved further", True),
            SURE,
        ),
        setting_words={("timing", "on"): "line up", ("timing", "ends"): "ends of words"},
        extras=LineUpExtras,
        picture=Lateness,
    ),
    skyline=SkylineView(
        height=attrgetter("late_ms"),
        bounds=(-100.0, 100.0, -450.0, 450.0),
        ceilings=_ceilings,
        zero=0.0,
        downward=("early_ms",),
    ),
    lens=LensView(around_s=0.25),
    trace=TraceView(axis=_AXIS, draw=draw_threads, draws_in_hand=True, high=True, anchors=anchors),
    hand=HandTools(handles=()),
)
