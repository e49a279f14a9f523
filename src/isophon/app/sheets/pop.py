"""The Pops sheet."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox

from isophon.app import theme
from isophon.app.model.passes import (
    SURE,
    Controls,
    HandTools,
    Knob,
    LensView,
    Pass,
    SkylineView,
    TraceView,
    Words,
    over_the_voice,
)
from isophon.app.model.workspace import Workspace
from isophon.app.sheets.extras import Extras
from isophon.app.sheets.pop_lows import PopLows
from isophon.app.translation import tr
from isophon.app.views.made import make_column
from isophon.core.passes.pop.find import drawn
from isophon.core.takes.pictures import LOWS


class PopExtras(Extras):
    """How pops can be heard on small loudspeakers."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.lift = QCheckBox(tr("listen to what is removed raised by 300 Hz"))
        self.lift.setToolTip("For small loudspeakers that play no pops; only while removed plays")
        self.lift.clicked.connect(workspace.audition.set_lifted)
        column = make_column(self, around=(0, 0, 0, 4))
        column.addWidget(self.lift)

    def show_part(self) -> None:
        """Show the selected part."""
        self.lift.setChecked(self.workspace.audition.lifted)


PASS = Pass(
    "pop",
    "Pops",
    theme.pop_shape,
    words=Words(
        one="pop",
        many="pops",
        first_look="Red at the foot of the map is a pop. {agree} accepts it, {as_sung_held} held plays it as sung.",
        over_what=", their lows in dB over the voice around them",
        more_words=lambda _workspace, mark: f"up to {mark.high_hz:.0f} Hz",
    ),
    controls=Controls(
        knobs=(
            Knob(
                "ceiling_db",
                "Ceiling over the voice",
                0.5,
                "dB",
                "Bursts that stand out more than this over the voice around them come down to it",
            ),
            Knob("limit_db", "At most", 0.5, "dB", "No change is deeper than this; at −36 they are gone"),
            Knob("edge_ms", "Fades", 1, "ms", "How long the change takes to fade in and out", True),
            SURE,
        ),
        setting_words={("pop", "ceiling_db"): "ceiling"},
        extras=PopExtras,
        picture=PopLows,
    ),
    skyline=SkylineView(bounds=(-42.0, 6.0, -60.0, 30.0), ceilings=over_the_voice("pop")),
    lens=LensView(box=lambda mark, axis: (axis.low, mark.hand.high_hz or mark.high_hz)),
    trace=TraceView(axis=LOWS, lifts=True),
    hand=HandTools(
        measure=drawn,
        handles=("start", "end", "high"),
        fades=lambda part: (part.pop.edge_ms, part.pop.edge_ms),
    ),
)
