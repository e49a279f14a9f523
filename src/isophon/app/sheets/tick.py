"""The Ticks sheet."""

from __future__ import annotations

from PySide6.QtWidgets import QCheckBox

from isophon.app import theme
from isophon.app.model.passes import (
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
from isophon.app.sheets.tick_scores import TickScores
from isophon.app.translation import tr
from isophon.app.views.made import make_column
from isophon.core.marks import Mark
from isophon.core.passes.tick.find import drawn
from isophon.core.passes.tick.mark import TickMark
from isophon.core.passes.tick.settings import DAMAGE
from isophon.core.takes.pictures import Axis


class TickExtras(Extras):
    """Whether damage is mended too, and how much of it there is."""

    def __init__(self, workspace: Workspace) -> None:
        super().__init__(workspace)
        self.mend = QCheckBox("")
        self.mend.clicked.connect(lambda on: workspace.settings.set_of_kind("tick", "mend", on))
        column = make_column(self, around=(0, 0, 0, 4))
        column.addWidget(self.mend)

    def show_part(self) -> None:
        """Show the selected part."""
        part = self.workspace.part
        counts = [sum(m.sound == sound for m in part.of(TickMark)) for sound in DAMAGE]
        damage = [
            f"{n} {one}{'s' if n > 1 else ''}" for n, one in zip(counts, ("clipped place", "dropout"), strict=True) if n
        ]
        self.mend.setToolTip("Repair clipped peaks and dropouts as well as clicks")
        self.mend.setText(tr(f"repair {' and '.join(damage)}" if damage else "no damage found"))
        self.mend.setEnabled(bool(damage))
        self.mend.setChecked(part.tick.mend)


def _change_words(_mark: Mark, change: float) -> str:
    return "repaired" if change < 0 else "left"


def _warning(workspace: Workspace, mark: TickMark) -> str:
    if mark.sound in DAMAGE and workspace.part.change(mark) == 0:
        return "The recording is damaged here. It is repaired on request: in the sheet, or ↓ for this one."
    return ""


PASS = Pass(
    "tick",
    "Ticks",
    theme.tick_shape,
    words=Words(
        one="tick",
        many="ticks",
        first_look="Each needle is a click. {agree} accepts its repair and goes on, {leave} leaves it as sung.",
        over_what=" in dB over the voice around them",
        gone=lambda _part: "repaired",
        change_words=_change_words,
        more_words=lambda _workspace, mark: mark.sound if mark.sound in DAMAGE else "",
        warning=_warning,
    ),
    controls=Controls(
        knobs=(
            Knob(
                "ceiling_db",
                "Ceiling over the voice",
                0.5,
                "dB",
                "Ticks that stand out less than this under the voice around them are left",
            ),
            Knob("sure", "Minimum confidence", 0.05, "%", "Marks that are less sure are left as sung"),
        ),
        setting_words={("tick", "ceiling_db"): "ceiling", ("tick", "mend"): "repair damage"},
        extras=TickExtras,
        picture=TickScores,
    ),
    skyline=SkylineView(bounds=(-48.0, 0.0, -80.0, 30.0), ceilings=over_the_voice("tick")),
    lens=LensView(waves=True, around_s=0.006, box=lambda _mark, _axis: (0.0, None)),
    trace=TraceView(axis=Axis(1_000.0, 16_000.0, 160, 0.003)),
    hand=HandTools(measure=drawn),
)
