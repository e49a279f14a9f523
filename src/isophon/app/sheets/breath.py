"""The Breaths sheet."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QCheckBox

from isophon.app import theme
from isophon.app.model.passes import (
    SURE,
    Controls,
    HandTools,
    Knob,
    Pass,
    SkylineView,
    TraceView,
    Words,
    over_the_voice,
)
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.before_after import BeforeAfter
from isophon.app.sheets.extras import Extras
from isophon.app.translation import tr
from isophon.app.views.gate import draw_fades
from isophon.app.views.made import make_column
from isophon.core.marks import GONE_DB
from isophon.core.passes.breath.find import measured
from isophon.core.passes.breath.mark import BreathMark
from isophon.core.session.model import Part
from isophon.core.takes.pictures import Axis

_PLACES = {"head": "at the head of a phrase", "between": "between words", "end": "after a phrase"}


class BreathExtras(Extras):
    """Whether the room goes on under a breath that is turned down."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.fill = QCheckBox(tr("room tone underneath"))
        self.fill.setToolTip("Let the room go on where a breath comes down; off: it gets silent there")
        self.fill.clicked.connect(lambda on: workspace.settings.set_of_kind("breath", "fill", on))
        column = make_column(self, around=(0, 0, 0, 4))
        column.addWidget(self.fill)

    def show_part(self) -> None:
        """Show the selected part."""
        self.fill.setChecked(self.workspace.part.breath.fill)


class BreathLevels(BeforeAfter):
    """The breaths of the part, as sung and cleaned."""

    kind = "breath"
    words = "Each breath against the voice around it, as sung and cleaned; the line is the ceiling"
    nothing = "No breaths were found in this part."

    def values(self, part: Part) -> tuple[np.ndarray, np.ndarray]:
        """Levels in dB over the voice."""
        marks = part.of(BreathMark)
        before = np.array([mark.standout_db for mark in marks])
        change = np.array([part.change(mark) for mark in marks])
        return before, np.where(change <= GONE_DB, np.nan, before + change)

    def lines(self, part: Part) -> list[tuple[float, str]]:
        """The ceiling."""
        return [(part.breath.ceiling_db, "ceiling")]


PASS = Pass(
    "breath",
    "Breaths",
    theme.breath_shape,
    words=Words(
        one="breath",
        many="breaths",
        first_look="Drag the ceiling until breaths sit as you like. {compare}: as sung, cleaned, removed.",
        over_what=" in dB over the voice around them",
        gone=lambda part: "filled" if part.breath.fill else "gone",
        more_words=lambda _workspace, mark: _PLACES[mark.place],
    ),
    controls=Controls(
        knobs=(
            Knob(
                "ceiling_db",
                "Ceiling over the voice",
                0.5,
                "dB",
                "What stands out more than this over the voice around it comes down to it",
            ),
            Knob("limit_db", "At most", 0.5, "dB", "No change is deeper than this; at −36 they are gone"),
            Knob("fade_ms", "Fades", 1, "ms", "How long the change takes to fade in and out", True),
            *(
                Knob(f"{place}_db", words, 0.5, "dB", f"How much more {what} may stand out; less below 0", True)
                for place, words, what in (
                    ("heads", "Phrase heads: higher by", "breaths at the head of a phrase"),
                    ("between", "Between words: higher by", "breaths between the words of a phrase"),
                    ("ends", "Phrase ends: higher by", "breaths after a phrase"),
                )
            ),
            SURE,
        ),
        setting_words={("breath", "ceiling_db"): "ceiling", ("breath", "fill"): "room tone under breaths"},
        extras=BreathExtras,
        picture=BreathLevels,
    ),
    skyline=SkylineView(bounds=(-42.0, -12.0, -60.0, 12.0), ceilings=over_the_voice("breath")),
    trace=TraceView(axis=Axis(200.0, 16_000.0, 160, 0.015), draw=draw_fades, high=True),
    hand=HandTools(
        measure=lambda _read, survey, start, end: measured(survey, start, end, 1.0),
        shaped="time",
        fades=lambda part: (part.breath.fade_ms, part.breath.fade_ms),
    ),
)
